"""The payment processor among the stand-ins, asked in this process, and cards that are given at its page."""

from __future__ import annotations

import json
from contextlib import nullcontext
from typing import Any

from fastapi import FastAPI
from sqlalchemy import select
from starlette.testclient import TestClient

from calm_tariff.edge.processor import HttpProcessor
from calm_tariff.services.admit import cards
from calm_tariff.services.admit.cards import CardView
from calm_tariff.services.base import webhooks
from calm_tariff.services.settle.cards import hearing, planning, trying
from calm_tariff.services.settle.documents import invoices
from calm_tariff.services.settle.documents.invoices import InvoiceView
from calm_tariff.standins.money import processor
from calm_tariff.standins.money.processing import CARDS, Mood, Processing
from calm_tariff.standins.telling import Event
from calm_tariff.store.base.notices import Notice
from calm_tariff.store.settle.card_attempts import PaymentAttempt
from tests.office import Office

SECRET = "what the payment processor signs with"
NUMBERS = {does: number for number, (does, _) in CARDS.items()}


class Simulated:
    """The processor of an office: what it knows, and the adapter that asks it."""

    def __init__(self, office: Office) -> None:
        self.office, self.processing = office, Processing(SECRET)
        app = FastAPI()
        app.include_router(processor.router(self.processing))
        self.web = TestClient(app, base_url="http://processor.example", raise_server_exceptions=False)
        self.asks = HttpProcessor(lambda: nullcontext(self.web), key=SECRET, secret=SECRET, events_to="http://here")

    def be(self, **mood: Any) -> None:
        """Have another mood."""
        self.processing.mood = Mood(**mood)

    def fill(self, address: str, does: str, ends: str = "12/39") -> str:
        """Type a card in at a page; where that leads back to."""
        path = address.removeprefix("http://processor.example")
        answer = self.web.post(
            path, data={"number": NUMBERS[does], "ends": ends, "code": "123"}, follow_redirects=False
        )
        assert answer.status_code == 303, answer.text
        return answer.headers["location"]

    def give(self, does: str, n: int = 0, ends: str = "12/39") -> CardView:
        """A consumer gives a card, and pays by it."""
        own = self.office.acting(self.office.consumers[n])
        self.fill(cards.begin(own, self.asks).address, does, ends)
        given = cards.finish(own, self.asks)
        assert given is not None
        return given

    def work(self) -> list[int]:
        """Plan what is to be tried today, and make what is planned, as workers do; the attempts."""
        planning.look(self.office.ctx)
        with self.office.ctx.transaction() as session:
            going = session.scalars(select(PaymentAttempt.id).where(PaymentAttempt.going.is_not(None))).all()
        for each in going:
            trying.make(self.office.ctx, self.asks, each)
        return list(going)

    def events(self, kind: str = "") -> list[Event]:
        """What it has to tell, of a kind."""
        return [e for e in self.processing.all.events if kind in json.loads(e.body)["type"]]

    def tell(self, *events: Event, secret: str = SECRET) -> None:
        """Tell it now, by the office's clock."""
        for event in events:
            signed = webhooks.signed(webhooks.secret_of(secret), event.id, self.office.ctx.now, event.body)
            hearing.take(self.office.ctx, self.asks, signed.body, signed.fields)

    def dispute(self, step: str, charge: int = -1) -> Event:
        """Whoever paid takes a step of a dispute about a charge; what there is to tell of it."""
        reference = list(self.processing.all.charges.values())[charge].reference
        self.web.post(f"/processor/charges/{reference}/dispute", data={"step": step}, follow_redirects=False)
        return self.events("dispute")[-1]

    @property
    def charges(self) -> list[tuple[str, str]]:
        """The amounts that were asked for, and how each stands."""
        return [(c.amount, c.failure or c.state) for c in self.processing.all.charges.values()]


def attempts(office: Office, invoice: InvoiceView) -> list[tuple[str, str]]:
    """The states of an invoice's attempts, and why they failed."""
    return [(a.state, a.failure) for a in invoices.one(office.finance, invoice.summary.id).attempts]


def told(office: Office, kind: str, n: int = 0) -> list[str]:
    """What the members of a consumer were told of a kind, in order."""
    member = office.consumers[n].member.member_id
    mine = Notice.kind == kind, Notice.audience == "member", Notice.audience_id == member
    with office.ctx.transaction() as session:
        return list(session.scalars(select(Notice.text).where(*mine).order_by(Notice.id)))
