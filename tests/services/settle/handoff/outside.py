"""An office of which a product is billed outside, by the outside billing among the stand-ins, asked in this process."""

from __future__ import annotations

import json
from contextlib import nullcontext
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

from fastapi import FastAPI
from sqlalchemy import func, select
from starlette.testclient import TestClient

from calm_tariff.edge.outside_billing import HttpOutsideBilling
from calm_tariff.services.settle.handoff import handed, handing_on, hearing, mapping, products, revising, sums
from calm_tariff.services.settle.handoff.handed import HandedEventView
from calm_tariff.services.settle.handoff.sums import HandedSumsRow
from calm_tariff.standins.money import outside_billing
from calm_tariff.standins.money.billing_there import BillingMood, BillingThere
from calm_tariff.standins.telling import Event
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.serve.usage import HourlyUsage
from calm_tariff.store.settle.handoff import HandedUnits
from tests.office import Office
from tests.services.months import SEPTEMBER

SECRET = "what outside billing and we sign with"
EVERYTHING = PageQuery(rows=1000, sort="oldest")


class Outside:
    """Billing outside an office: what it knows, and the adapter that asks it."""

    def __init__(self, office: Office, since: date | None = SEPTEMBER) -> None:
        self.office, self.there = office, BillingThere(SECRET, clock=office.clock)
        self.there.all.customers = {"C-1": "Ferries Ltd", "C-2": "Kayaks Ltd"}
        self.there.all.prices = {"P-1": "Harbour, regular", "P-2": "Harbour, large"}
        app = FastAPI()
        app.include_router(outside_billing.router(self.there))
        self.web = TestClient(app, base_url="http://billing.example", raise_server_exceptions=False)
        self.asks = HttpOutsideBilling(lambda: nullcontext(self.web), key=SECRET, secret=SECRET)
        if since is not None:
            products.begin(office.finance, office.product, since)

    def be(self, **mood: Any) -> None:
        """Have another mood."""
        self.there.mood = BillingMood(**mood)

    def map(self, n: int = 0, customer: str | None = None, price: str = "P-1") -> None:
        """Map a consumer, and the plan it is on."""
        owner = self.office.consumers[n].member.own_consumer
        mapping.set_customer(self.office.finance, owner, f"C-{n + 1}" if customer is None else customer)
        mapping.set_plan_price(self.office.finance, self.office.plans["Ketch"], price)

    def look(self, everywhere: bool = False) -> datetime:
        """Make what is to be told of hours that are due."""
        return revising.look(self.office.ctx, everywhere)

    def hand_on(self) -> None:
        """Look, and send all that may be."""
        self.look()
        while handing_on.hand_on(self.office.ctx, self.asks) is not None:
            pass

    def events(self, **which: Any) -> list[HandedEventView]:
        """What is told of hours, the oldest first."""
        return handed.events(self.office.finance, EVERYTHING, **which).rows

    def sums(self, start: date = SEPTEMBER, ask: bool = True) -> list[HandedSumsRow]:
        """A month's sums on both sides."""
        wanted = PageQuery(rows=1000, sort="consumer")
        return sums.of_month(self.office.finance, start, wanted, self.asks if ask else None).rows

    def hear(self, kind: str, customer: str = "C-1", word_id: str = "", at: datetime | None = None, **of: str) -> None:
        """Hear a word of the outside's, signed."""
        now = self.office.clock.now
        body = json.dumps({"type": kind, "timestamp": (at or now).isoformat(), "data": {"customer": customer, **of}})
        word = Event(word_id or f"word-{kind}-{customer}-{now.timestamp()}", "", body)
        hearing.take(self.office.ctx, self.asks, body.encode(), self.there.signed(word))

    def agrees(self) -> None:
        """See that of every hour that is due, what was told comes to what is recorded, and the outside has exactly what
        it accepted, by hour."""
        due = revising.due_until(self.office.ctx.now_us)
        with self.office.ctx.transaction() as session:
            of = HourlyUsage.hour_us, HourlyUsage.subscription_id, HourlyUsage.meter_id
            recorded = select(*of, func.sum(HourlyUsage.units)).where(HourlyUsage.hour_us < due).group_by(*of)
            have = {tuple(key): units for *key, units in session.execute(recorded) if units}
            handed = HandedUnits.hour_us, HandedUnits.subscription_id, HandedUnits.meter_id
            told = select(*handed, func.sum(HandedUnits.units)).group_by(*handed)
            said = {tuple(key): units for *key, units in session.execute(told) if units}
            accepted = {each.event_id for each in session.scalars(select(HandedUnits)) if each.state == "accepted"}
        assert have == said
        assert accepted == set(self.there.all.events)
        for row in self.sums():
            assert row.outside == row.accepted and row.recorded == row.accepted + row.waiting + row.to_come


def total(events: list[HandedEventView]) -> Decimal:
    return sum((each.units for each in events), Decimal(0))


def later(office: Office, **by: int) -> None:
    office.clock.now += timedelta(**by)
