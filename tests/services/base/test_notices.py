"""Everybody of an audience is told: by a letter, and by a notice of their own that stays, unless it is confidential."""

from __future__ import annotations

from contextlib import suppress
from email import message_from_bytes, policy
from typing import Any

from aiosmtpd.controller import Controller
from sqlalchemy import select

from calm_tariff.services.base import jobs, mailing, notices
from calm_tariff.services.base.notices import Notice, Recipient
from calm_tariff.store.admit.consumers import Member
from calm_tariff.store.base.jobs import Job
from calm_tariff.store.base.notices import Notice as Stored
from calm_tariff.store.base.record import Mail
from tests.office import Office
from tests.ports import free_port

ENDS = Notice(kind="version ends", fields={"version": "Tides v1", "day": "1 October 2026"}, page="/portal/applications")


def tell(office: Office, audience: list[Recipient], notice: Notice) -> tuple[list[Stored], list[Mail], list[Job]]:
    with office.ctx.transaction() as session:
        for table in (Stored, Mail, Job):
            session.query(table).delete()
        notices.notify(session, office.ctx, audience, notice)
        session.flush()
        return tuple(list(session.scalars(select(table))) for table in (Stored, Mail, Job))  # type: ignore[return-value]


def test_each_of_an_audience_is_told_for_itself(office: Office) -> None:
    with office.ctx.transaction() as session:
        audience = notices.members(session.scalars(select(Member).order_by(Member.id)))
    told, letters, work = tell(office, audience, ENDS)
    assert [(n.audience, n.audience_id) for n in told] == [("member", each.member_id) for each in audience]
    assert {(n.kind, n.link, n.read_at) for n in told} == {("version ends", "/portal/applications", None)}
    assert [m.recipient for m in letters] == [each.email for each in audience] and len(audience) == 2
    assert all(f"Dear {each.name}," in m.body for each, m in zip(audience, letters, strict=True))
    assert [(job.kind, job.arguments) for job in work] == [(mailing.SEND, {"letter": m.id}) for m in letters]


def test_one_of_the_providers_people_is_told_like_a_member_and_a_stranger_by_letter_alone(office: Office) -> None:
    audience = [Recipient(email="ines@test.example", name="Ines", person_id=3), Recipient(email="who@else.example")]
    told, letters, _ = tell(office, audience, ENDS)
    assert [(n.audience, n.audience_id) for n in told] == [("person", 3)]
    assert [m.recipient for m in letters] == ["ines@test.example", "who@else.example"]


def test_what_is_confidential_stands_nowhere_once_it_was_sent(office: Office) -> None:
    notice = Notice(kind="password forgotten", page="/reset#the-token", confidential=True)
    told, [letter], _ = tell(office, [Recipient(email="ines@test.example", name="Ines", person_id=3)], notice)
    assert told == [] and "#the-token" in letter.body and "#the-token" in (letter.html or "")
    got: list[Any] = []

    class Kept:
        async def handle_DATA(self, server, session, envelope) -> str:  # noqa: N802
            got.append(message_from_bytes(envelope.content, policy=policy.default))
            return "250 OK"

    server = Controller(Kept(), hostname="127.0.0.1", port=free_port())
    server.start()
    try:
        mailing.send(office.ctx, letter.id, "127.0.0.1", server.port)
    finally:
        server.stop()
    [message] = got
    for kind in ("plain", "html"):
        assert "#the-token" in message.get_body((kind,)).get_content()
    with office.ctx.transaction() as session:
        kept = session.get_one(Mail, letter.id)
        assert (kept.body, kept.html, kept.sent_at) == ("", None, office.ctx.now)


def test_nobody_is_told_of_what_did_not_happen(office: Office) -> None:
    def happens() -> None:
        with office.ctx.transaction() as session:
            notices.notify(session, office.ctx, [Recipient(email="a@b.example", member_id=1)], ENDS)
            raise ZeroDivisionError

    before = jobs.claim(office.ctx, {mailing.SEND: jobs.LEASE})
    with suppress(ZeroDivisionError):
        happens()
    with office.ctx.transaction() as session:
        assert session.scalars(select(Mail).where(Mail.recipient == "a@b.example")).all() == []
        assert session.scalars(select(Stored).where(Stored.kind == "version ends")).all() == []
    assert before is not None
