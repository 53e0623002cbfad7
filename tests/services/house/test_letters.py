"""The mail log: what became of every letter, and another try for one that failed."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound
from calm_tariff.services.base import auditing, jobs, mailing
from calm_tariff.services.base.context import Context, Holding
from calm_tariff.services.base.notices import Notice, Recipient, notify
from calm_tariff.services.house import letters
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import Mail
from tests.office import Office
from tests.ports import free_port

SENDING = {mailing.SEND: timedelta(minutes=1)}


def written(ctx: Context, to: str, *, confidential: bool = False) -> int:
    with ctx.transaction() as session:
        fields = {"what": "factor on"}
        notice = Notice(kind="sign-in changed", fields=fields, confidential=confidential)
        notify(session, ctx, [Recipient(email=to)], notice)
        return session.scalars(select(Mail.id).order_by(Mail.id.desc())).first() or 0


def of(ctx: Context, state: str = "", words: str = "", kind: str = "") -> list[int]:
    return [row.id for row in letters.listed(ctx, PageQuery(words=words), state, kind).rows]


def test_each_letter_is_listed_with_what_became_of_it(office: Office) -> None:
    operations = office.manager
    with office.ctx.transaction() as session:  # letters of the office's beginning are on their way
        for mail in session.scalars(select(Mail)):
            mail.sent_at = office.ctx.now
    sent, failed, waiting = (written(office.ctx, f"{name}@x.example") for name in ("sent", "failed", "waiting"))
    with office.ctx.transaction() as session:
        session.get_one(Mail, sent).sent_at = office.ctx.now
        session.get_one(Mail, failed).failed = "550 no such box"
    assert of(operations, "waiting") == [waiting] and of(operations, "failed") == [failed]
    assert of(operations, "sent")[0] == sent and of(operations)[:3] == [waiting, failed, sent]
    assert of(operations, words="failed@") == [failed]
    assert of(operations, kind="sign-in changed") == [waiting, failed, sent]
    found = letters.one(operations, failed)
    assert (found.letter.state, found.letter.why, found.letter.kind) == ("failed", "550 no such box", "sign-in changed")
    assert "code is asked for" in found.text and found.html.startswith("<!doctype html>")
    with pytest.raises(Invalid) as refused:
        of(operations, "lost")
    assert refused.value.where == "state"


def test_one_that_is_tried_again_says_why_and_when_and_is_sent_at_once_when_asked_for(office: Office) -> None:
    letter = written(office.ctx, "ana@x.example")
    job = next(j for j in iter(lambda: jobs.claim(office.ctx, SENDING), None) if j.arguments == {"letter": letter})
    with pytest.raises(OSError):
        mailing.send(office.ctx, letter, "127.0.0.1", free_port())
    jobs.failed(office.ctx, job, "ConnectionRefusedError: nobody there", 40, 0)
    shown = letters.one(office.manager, letter).letter
    assert shown.state == "waiting" and shown.tries == 1 and "nobody there" in shown.why
    assert shown.next_at == office.ctx.now + timedelta(seconds=2) and not shown.gave_up
    assert jobs.claim(office.ctx, SENDING) is None
    letters.send_again(office.manager, letter)
    again = jobs.claim(office.ctx, SENDING)
    assert again is not None and again.arguments == {"letter": letter} and again.attempts == 1


def test_one_that_failed_is_sent_again_and_that_is_on_the_record(office: Office) -> None:
    letter = written(office.ctx, "ana@x.example")
    with office.ctx.transaction() as session:
        session.get_one(Mail, letter).failed = "552 the box is full"
    with pytest.raises(NotAllowed):
        letters.send_again(office.finance, letter)
    assert letters.send_again(office.manager, letter).letter.state == "waiting"
    (entry,) = auditing.entries(office.manager, PageQuery(words="had a letter sent again")).rows
    assert "ana@x.example" in entry.subject
    with office.ctx.transaction() as session:
        session.get_one(Mail, letter).sent_at = office.ctx.now
    with pytest.raises(Conflict, match="sent already"):
        letters.send_again(office.manager, letter)
    with pytest.raises(NotFound):
        letters.send_again(office.manager, letter + 1000)


def test_what_a_confidential_one_says_is_shown_to_nobody_before_or_after(office: Office) -> None:
    letter = written(office.ctx, "ana@x.example", confidential=True)
    found = letters.one(office.manager, letter)
    assert found.letter.confidential and (found.text, found.html) == ("", "")
    with office.ctx.transaction() as session:
        mail = session.get_one(Mail, letter)
        mail.failed, mail.body, mail.html = "550", "", None
    with pytest.raises(Conflict, match="kept nowhere"):
        letters.send_again(office.manager, letter)


def test_one_that_is_held_back_is_not_sent_before_its_time(office: Office) -> None:
    held = Holding("decision 1", office.ctx.now + timedelta(minutes=1))
    letter = written(replace(office.ctx, holding=held), "ana@x.example")
    with pytest.raises(Conflict, match="held back"):
        letters.send_again(office.manager, letter)
