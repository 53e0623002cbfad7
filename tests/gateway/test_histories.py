"""Random histories of stays under a simulated clock, with the worker away at random times: every call's stay and every
line of every invoice as a reference says that shares nothing with `core`."""

from __future__ import annotations

import random
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, timedelta
from itertools import pairwise
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from sqlalchemy import select

from calm_tariff.services.admit import carrying_over
from calm_tariff.services.compose.sheet import plans
from calm_tariff.services.settle import charging, periods
from calm_tariff.store.admit.subscriptions import Stay
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.serve.usage import Call
from calm_tariff.store.settle.invoices import Invoice
from tests.core.rating_reference import charge
from tests.gateway.simulated import Simulated
from tests.office import START, Consumer, Office

LISBON = ZoneInfo("Europe/Lisbon")
COUNTED, UNCOUNTED = "/stations/lm-01", "/stations"


def midnight(day: date) -> datetime:
    return datetime(day.year, day.month, day.day, tzinfo=LISBON).astimezone(UTC)


def tariff(dice: random.Random, trial: dict[str, Any] | None = None) -> dict[str, Any]:
    """Terms that can be told apart by what they charge."""
    unit = {
        "kind": "usage",
        "meter": "forecast_calls",
        "model": "per_unit",
        "included": str(dice.randrange(9)),
        "unit": f"0.{dice.randrange(1, 99):02d}",
    }
    pricing = {
        "prices": [{"kind": "fee", "amount": f"{dice.randrange(1, 99)}.00"}, unit],
        "prorate": True,
        "minimum": None,
        "cap": None,
        "discount_percent": "0",
    }
    made: dict[str, Any] = {"limits": [], "pricing": pricing}
    return {**made, "trial": trial} if trial else made


@dataclass
class Known:
    """What the reference knows of one subscription: what was agreed, when, and from when on. `cuts` are the moments
    at which charges are cut; nothing cuts a trial."""

    consumer: Consumer
    plan: str
    began: datetime
    terms: list[tuple[datetime, int, dict[str, Any]]]
    cuts: set[datetime] = field(default_factory=set)
    free_until: datetime | None = None
    free_units: int | None = None
    used: int = 0
    calls: list[tuple[datetime, bool, str]] = field(default_factory=list)

    def at(self, moment: datetime) -> dict[str, Any]:
        """The terms of a moment: of all that had begun by then, what was agreed last."""
        begun = [(order, terms) for start, order, terms in self.terms if start <= moment]
        return max(begun, key=lambda each: each[0])[1]

    def free(self, moment: datetime) -> bool:
        return self.free_until is not None and moment < self.free_until

    def called(self, moment: datetime, path: str) -> None:
        free = self.free(moment)
        if path == COUNTED and free and self.free_units is not None:
            self.used += 1
            if self.used == self.free_units:
                # It is over with this call.
                self.calls.append((moment, True, path))
                self.free_until = moment + timedelta(microseconds=1)
                return
        self.calls.append((moment, free, path))

    def segments(self, start: datetime, end: datetime) -> list[dict[str, Any]]:
        kept = {cut for cut in self.cuts if not self.free(cut)}  # a trial goes on as it was agreed
        cuts = {self.began, *kept} | ({self.free_until} if self.free_until else set())
        edges = sorted({max(cut, start) for cut in cuts if cut < end} | {end})
        made = []
        for begin, stop in pairwise(edges):
            units = sum(begin <= at < stop and path == COUNTED for at, _, path in self.calls)
            terms = self.at(begin)
            made.append(
                {
                    "start": begin.isoformat(),
                    "end": stop.isoformat(),
                    "first": False,
                    "trial": self.free(begin),
                    "plan": terms["pricing"],
                    "usage": {"forecast_calls": str(units)},
                }
            )
        return made


class Story:
    """An office to which things happen, and what the reference makes of them."""

    def __init__(self, office: Office, folder: Path, seed: int) -> None:
        self.office, self.dice = office, random.Random(seed)
        self.here = Simulated(office, folder)
        self.known: list[Known] = []
        self.order = 0
        self.newest: dict[str, dict[str, Any]] = {}
        self.happened: set[str] = set()
        for name in ("By days", "By units", "Plain"):
            office.plans[name] = plans.add(office.manager, office.product, name).plans[-1].id
            self.draft(name)
        office.publish("keep")

    @property
    def now(self) -> datetime:
        return self.office.clock.now

    @property
    def today(self) -> date:
        return self.now.astimezone(LISBON).date()

    def draft(self, plan: str) -> None:
        by_units = {"days": 30, "units": "6", "meter": "forecast_calls", "then": "charge"}
        by_days = {"days": self.dice.randrange(2, 20), "then": "charge"}
        trial = {"By days": by_days, "By units": by_units}.get(plan)
        wanted = self.newest[plan] = tariff(self.dice, trial)
        self.office.draft(plan, wanted)

    def admit(self) -> None:
        plan = self.dice.choice(list(self.newest))
        if len(self.known) > 6:
            return
        made = self.office.admit(f"Guest{chr(65 + len(self.known)) * 3}", plan)
        trial = self.newest[plan].get("trial")
        self.known.append(
            Known(
                consumer=made,
                plan=plan,
                began=self.now,
                terms=[(self.now, self.order, self.newest[plan])],
                cuts=set(),
                free_until=midnight(self.today + timedelta(days=trial["days"])) if trial else None,
                free_units=int(trial["units"]) if trial and "units" in trial else None,
            )
        )

    def publish(self) -> None:
        plan = self.dice.choice(list(self.newest))
        existing = self.dice.choice(["keep", "next period", "at date"])
        self.draft(plan)
        on = self.today + timedelta(days=self.dice.randrange(1, 12)) if existing == "at date" else None
        self.office.publish(existing, "", on)
        self.order += 1
        if existing == "keep":
            return
        first = (self.today.replace(day=1) + timedelta(days=32)).replace(day=1)
        for each in self.known:
            if each.plan == plan:
                change = midnight(on or first)
                each.terms.append((change, self.order, self.newest[plan]))
                each.cuts.add(change)

    def move(self) -> None:
        if len(self.newest) < 3 or self.dice.random() < 0.5:
            return
        source, target = self.dice.sample([p for p in self.newest if p != "By units"], 2)
        carrying_over.withdraw(self.office.manager, self.office.plans[source], self.office.plans[target])
        self.order += 1
        for each in self.known:
            if each.plan == source:
                each.plan = target
                each.terms.append((self.now, self.order, self.newest[target]))
                each.cuts = {cut for cut in each.cuts if cut < self.now} | {self.now}
                if each.free_until and each.free_until > self.now:
                    each.free_until = self.now
        del self.newest[source]

    def work(self) -> None:
        self.here.work()

    def call(self, moment: datetime) -> None:
        if self.known:
            each = self.dice.choice(self.known)
            path = self.dice.choice([COUNTED, COUNTED, UNCOUNTED])
            self.here.at(moment)
            assert self.here.call(each.consumer.secret, path).status == 200
            each.called(moment, path)

    def around(self) -> list[datetime]:
        """Moments at which something begins or ends soon, to call there and just beside."""
        edges = [at for each in self.known for at, _, _ in each.terms] + [
            each.free_until for each in self.known if each.free_until
        ]
        ahead = sorted(at for at in set(edges) if at > self.now)
        return ahead[:1]


@pytest.mark.parametrize("seed", range(6))
def test_every_call_and_every_line_is_as_the_reference_says(office: Office, tmp_path: Path, seed: int) -> None:
    story = Story(office, tmp_path, seed)
    dice = story.dice
    try:
        while story.now < START + timedelta(days=75):
            what = dice.choice(["admit", "admit", "publish", "publish", "move", "work"])
            getattr(story, what)()
            story.happened.add(what)
            story.here.learn()
            until = story.now + timedelta(hours=dice.randrange(1, 80))
            for edge in story.around():
                if edge < until:  # the worker is away, and nobody says that something begins
                    for microseconds in (-1, 0, 1):
                        story.call(edge + timedelta(microseconds=microseconds))
            moment = story.now
            for _ in range(dice.randrange(6)):
                moment += timedelta(seconds=dice.randrange(1, 5 * 3600), microseconds=dice.randrange(10**6))
                story.call(moment)
            story.here.at(max(moment, until))
        story.here.work()
    finally:
        story.here.close()
    _every_call(story)
    for start in (date(2026, 9, 1), date(2026, 10, 1), date(2026, 11, 1)):
        _every_line(story, start)
    assert {"admit", "publish", "work"} <= story.happened


def _every_call(story: Story) -> None:
    with story.office.ctx.transaction() as session:
        stays = {s.id: (s.trial, s.revision.terms["pricing"]["prices"]) for s in session.scalars(select(Stay))}
        for each in story.known:
            query = select(Call).where(Call.subscription_id == each.consumer.subscription).order_by(Call.at_us)
            recorded = [(stays[c.stay_id or 0], bool(c.units)) for c in session.scalars(query)]
            expected = [((free, each.at(at)["pricing"]["prices"]), path == COUNTED) for at, free, path in each.calls]
            assert len(recorded) == len(expected)
            for n, (((free, prices), counted), ((wanted_free, wanted), wanted_counted)) in enumerate(
                zip(recorded, expected, strict=True)
            ):
                assert counted == wanted_counted, n
                if counted:  # an uncounted call after a trial's last unit is free either way
                    assert free == wanted_free, (each, n)
                if counted and not free:
                    assert _said(prices) == _said(wanted), (each, n)


def _said(prices: list[dict[str, Any]]) -> list[tuple[Any, ...]]:
    return [(p["kind"], p.get("amount"), p.get("unit"), p.get("included")) for p in prices]


def _every_line(story: Story, start: date) -> None:
    after = (start + timedelta(days=32)).replace(day=1)
    story.here.at(max(story.now, midnight(after)))
    charging.run(story.office.finance, start)
    rows = periods.charges(story.office.finance, start, PageQuery(rows=100)).rows
    with story.office.ctx.transaction() as session:
        for each in story.known:
            case = {
                "currency": "EUR",
                "time_zone": "Europe/Lisbon",
                "tax_percent": "0",
                "period": {"start": start.isoformat(), "end": after.isoformat()},
                "segments": each.segments(midnight(start), midnight(after)),
            }
            invoice = session.scalar(
                select(Invoice).where(
                    Invoice.consumer_id == each.consumer.member.consumer_id, Invoice.period_start == start
                )
            )
            assert (invoice is not None) == bool(case["segments"])
            if invoice is None:
                continue
            expected = [(line["kind"], line["amount"]) for line in charge(case)["lines"]]
            got = [(line.kind, f"{line.amount:.2f}") for line in invoice.lines]
            assert got == expected, (each.plan, start, got, expected, case["segments"])
    assert rows
