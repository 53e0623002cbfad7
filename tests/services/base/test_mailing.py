"""Letters go out each for itself; one that cannot be sent is set aside."""

from __future__ import annotations

from urllib.parse import parse_qs, urlsplit

from aiosmtpd.controller import Controller
from sqlalchemy import select

from calm_tariff.formats.letters import Letter
from calm_tariff.services.base import auditing, mailing
from calm_tariff.services.observe import today
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import Mail
from tests.office import Office
from tests.ports import free_port


class Picky:
    """A mail server that refuses one recipient and one content."""

    def __init__(self) -> None:
        self.got: list[str] = []

    async def handle_RCPT(self, server, session, envelope, address, options) -> str:  # noqa: N802
        if address == "refused@consumer.example":
            return "550 nobody here"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server, session, envelope) -> str:  # noqa: N802
        if b"unwelcome" in envelope.content:
            return "554 not such letters"
        self.got += envelope.rcpt_tos
        return "250 OK"


def test_a_letter_that_cannot_be_sent_is_set_aside_and_holds_up_none(office: Office) -> None:
    server = Controller(picky := Picky(), hostname="127.0.0.1", port=free_port())
    server.start()
    try:
        with office.ctx.transaction() as session:
            session.query(Mail).delete()
            for to, subject, body in (
                ("refused@consumer.example", "One", "x"),
                ("first@consumer.example", "a\nline break", "x"),
                ("second@consumer.example", "Two", "unwelcome"),
                ("not an address", "Three", "x"),
                ("last@consumer.example", "Four", "x"),
            ):
                mailing.write(session, office.ctx, to, Letter(subject, body, f"<p>{body}</p>"), mailing.About())
        with office.ctx.transaction() as session:
            written = session.scalars(select(Mail.id)).all()
        for letter in written:
            for _ in range(2):  # what is sent or set aside stays so, however often it is tried
                mailing.send(office.ctx, letter, "127.0.0.1", server.port)
    finally:
        server.stop()
    assert picky.got.count("last@consumer.example") == 1 and "refused@consumer.example" not in picky.got
    told = next(i for i in today.today(office.manager).yours if "could not be sent" in i.title)
    words = parse_qs(urlsplit(told.link).query)["words"][0]
    named = auditing.entries(office.manager, PageQuery(words, rows=20)).rows  # where Today leads to
    assert told.title == f"{len(named)} letters could not be sent" and len(named) >= 2
    [refused] = [e for e in named if e.subject == "“One” to refused@consumer.example"]
    assert "550" in refused.why
    office.clock.forward(days=8)
    assert not [i for i in today.today(office.manager).yours if "could not be sent" in i.title]
    with office.ctx.transaction() as session:
        found = {m.subject: (m.sent_at is not None, m.failed or "") for m in session.scalars(select(Mail))}
    assert found["Four"] == (True, "")
    assert not found["One"][0] and "nobody here" in found["One"][1]
    assert not found["a\nline break"][0] and "ValueError" in found["a\nline break"][1]
    assert not found["Two"][0] and "not such letters" in found["Two"][1]
