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

from calm_tariff.services.admit import carrying_over, moves
from calm_tariff.services.admit.desk import asking, deciding
from calm_tariff.services.admit.desk.asking import MoveAsked
from calm_tariff.services.compose.sheet import plans
from calm_tariff.services.serve import trials
from calm_tariff.services.settle.periods import charging, periods
from calm_tariff.store.admit.subscriptions import Stay
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.serve.usage import Call
from calm_tariff.store.settle.money_documents import Invoice
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
    """What the reference knows of one subscription: what was agreed, in stretches that begin where they say, of a plan
    with its terms, or of nothing; when it was free, and when paused."""

    consumer: Consumer
    began: datetime
    agreed: list[tuple[datetime, str | None, dict[str, Any]]]
    trial: dict[str, Any]
    free_until: datetime | None = None
    free_units: int | None = None
    used: int = 0
    pauses: list[list[datetime | None]] = field(default_factory=list)
    coming: datetime | None = None
    before: list[tuple[datetime, str | None, dict[str, Any]]] = field(default_factory=list)
    trial_plan: str = ""
    calls: list[tuple[datetime, bool, str]] = field(default_factory=list)

    def at(self, moment: datetime) -> tuple[str | None, dict[str, Any]]:
        """The plan and the terms of a moment; of a trial those that follow it."""
        return next((plan, terms) for start, plan, terms in reversed(self.agreed) if start <= moment)

    def prices(self, moment: datetime) -> list[dict[str, Any]]:
        return self.at(moment)[1].get("pricing", {}).get("prices", [])

    def say(self, moment: datetime, plan: str | None, terms: dict[str, Any]) -> None:
        """From a moment on it is this, and nothing else."""
        self.agreed = [each for each in self.agreed if each[0] < moment] + [(moment, plan, terms)]

    def replace(self, moment: datetime, plan: str, to: str, terms: dict[str, Any]) -> None:
        """From a moment on, what is under a plan is under these terms, of the plan or another one: what would hold
        without the move that is to come as well."""
        self.agreed, self.before = (_replaced(each, moment, plan, (to, terms)) for each in (self.agreed, self.before))

    def rests(self, moment: datetime) -> bool:
        return any(start <= moment and (end is None or moment < end) for start, end in self.pauses)

    def serves(self, moment: datetime) -> bool:
        return self.free(moment) or (self.at(moment)[0] is not None and not self.rests(moment))

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
        cuts = {self.began, *(cut for cut, _, _ in self.agreed if not self.free(cut))}
        cuts |= {self.free_until} if self.free_until else set()
        edges = sorted({max(cut, start) for cut in cuts if cut < end} | {end})
        made: list[dict[str, Any]] = []
        for begin, stop in pairwise(edges):
            plan, terms = self.at(begin)
            if plan is None and not self.free(begin):
                continue
            units = sum(begin <= at < stop and path == COUNTED for at, _, path in self.calls)
            if made and made[-1]["plan"] is terms["pricing"] and not self.free(begin) and not made[-1]["trial"]:
                made[-1]["end"] = stop.isoformat()  # under the same terms it only goes on
                made[-1]["usage"] = {"forecast_calls": str(int(made[-1]["usage"]["forecast_calls"]) + units)}
                continue
            made.append(
                {
                    "start": begin.isoformat(),
                    "end": stop.isoformat(),
                    "first": False,
                    "trial": self.free(begin),
                    "plan": (self.trial if self.free(begin) else terms)["pricing"],
                    "usage": {"forecast_calls": str(units)},
                    "pauses": [
                        {"start": began.isoformat(), "end": over.isoformat() if over else None}
                        for began, over in self.pauses
                        if began
                    ],
                }
            )
        return made


def _replaced(
    agreed: list[tuple[datetime, str | None, dict[str, Any]]],
    moment: datetime,
    plan: str,
    by: tuple[str, dict[str, Any]],
) -> list[tuple[datetime, str | None, dict[str, Any]]]:
    made = []
    for (start, own, known), after in zip(agreed, [*agreed[1:], None], strict=False):
        concerned = own == plan and not (after and after[0] <= moment)
        if not concerned or start < moment:
            made.append((start, own, known))
        if concerned:
            made.append((max(start, moment), *by))
    return made


class Story:
    """An office to which things happen, and what the reference makes of them."""

    def __init__(self, office: Office, folder: Path, seed: int) -> None:
        self.office, self.dice = office, random.Random(seed)
        self.here = Simulated(office, folder)
        self.known: list[Known] = []
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
                began=self.now,
                agreed=[(self.now, plan, self.newest[plan])],
                trial=self.newest[plan],
                trial_plan=plan,
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
        if existing == "keep":
            return
        for each in self.known:
            each.replace(midnight(on or self.next_month), plan, plan, self.newest[plan])

    def move(self) -> None:
        if len(self.newest) < 3 or self.dice.random() < 0.5:
            return
        source, target = self.dice.sample([p for p in self.newest if p != "By units"], 2)
        for each in self.known:
            self.settle(each)
            now_free = each.free_until is not None and each.free_until > self.now
            if now_free and each.trial_plan == source:
                each.free_until = self.now
                each.say(self.now, target, self.newest[target])
            else:
                each.replace(self.now, source, target, self.newest[target])
            if each.trial_plan == source:
                each.trial_plan = target
        carrying_over.withdraw(self.office.manager, self.office.plans[source], self.office.plans[target])
        del self.newest[source]

    def settle(self, each: Known) -> None:
        """Have it said what has ended or come by now."""
        self.here.ship()
        trials.end_trial(self.office.ctx, each.consumer.subscription)
        moves.come_true(self.office.ctx, each.consumer.subscription)

    def consumer_moves(self) -> None:
        """Somebody does something with a subscription that can be done with it now."""
        alive = [each for each in self.known if each.serves(self.now) or each.rests(self.now)]
        if not alive:
            return
        each = self.dice.choice(alive)
        self.settle(each)
        free = each.free(self.now)
        plan = each.trial_plan if free else each.at(self.now)[0]
        if plan is None:
            return
        rests = each.rests(self.now)
        kind = self.dice.choice(
            ["change plan", "change plan", "end", *([] if free else ["resume" if rests else "pause"])]
        )
        when = self.dice.choice(["now", "later"]) if kind in ("change plan", "end") else "now"
        if kind == "end" and when == "now" and self.dice.random() < 0.7:
            return  # or soon nobody would be left
        target = self.dice.choice([p for p in self.newest if p != plan]) if kind == "change plan" else None
        asked = MoveAsked(
            kind=kind, when=when, plan_id=self.office.plans[target] if target else None, purpose="It fits us better."
        )
        own = self.office.acting(each.consumer)
        request = asking.ask_to_move(own, each.consumer.subscription, asked)
        if request is not None:
            deciding.decide(self.office.reviewer, request.id, "granted", "")
        self.done(each, kind, when, target, free)
        self.happened.add(f"{kind} {when}")

    def done(self, each: Known, kind: str, when: str, target: str | None, free: bool) -> None:
        """What the reference makes of a move."""
        if kind in ("pause", "resume"):
            if kind == "pause":
                each.pauses.append([self.now, None])
            else:
                each.pauses[-1][1] = self.now
            return
        if each.coming is not None and each.coming > self.now:
            each.agreed = each.before
        each.coming = None
        terms = self.newest[target] if target else {}
        if free and when == "later":
            each.agreed = [(each.began, target, terms)]  # what follows the trial, whenever that ends
            return
        at = self.now if when == "now" else midnight(self.next_month)
        if when == "now" and free:
            each.free_until = self.now
        each.before = list(each.agreed)
        each.say(at, target, terms)
        if when == "later":
            each.coming = at

    @property
    def next_month(self) -> date:
        return (self.today.replace(day=1) + timedelta(days=32)).replace(day=1)

    def work(self) -> None:
        self.here.work()

    def call(self, moment: datetime) -> None:
        if self.known:
            each = self.dice.choice(self.known)
            path = self.dice.choice([COUNTED, COUNTED, UNCOUNTED])
            if each.used == each.free_units and each.at(moment)[0] is None:
                path = COUNTED  # what no unit of the trial is used by is let through until a worker has said its end
            self.here.at(moment)
            serves = each.serves(moment)
            assert self.here.call(each.consumer.secret, path).status == (200 if serves else 403), moment
            if serves:
                each.called(moment, path)

    def around(self) -> list[datetime]:
        """Moments at which something begins or ends soon, to call there and just beside."""
        edges = [at for each in self.known for at, _, _ in each.agreed] + [
            each.free_until for each in self.known if each.free_until
        ]
        ahead = sorted(at for at in set(edges) if at > self.now)
        return ahead[:1]


@pytest.mark.parametrize("seed", range(8))
def test_every_call_and_every_line_is_as_the_reference_says(office: Office, tmp_path: Path, seed: int) -> None:
    story = Story(office, tmp_path, seed)
    dice = story.dice
    try:
        while story.now < START + timedelta(days=75):
            what = dice.choice(["admit", "admit", "publish", "publish", "move", "work", *["consumer_moves"] * 4])
            getattr(story, what)()
            story.happened.add(what)
            story.here.learn()
            until = story.now + timedelta(hours=dice.randrange(1, 80))
            for edge in story.around():
                if edge < until:  # the worker is away, and nobody says that something begins
                    for microseconds in (-1, 0, 1):
                        story.call(edge + timedelta(microseconds=microseconds))
            moment = story.now
            for _ in range(dice.randrange(8)):
                moment += timedelta(seconds=dice.randrange(1, 5 * 3600), microseconds=dice.randrange(10**6))
                story.call(moment)
            story.here.at(max(moment + timedelta(microseconds=1), until))
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
            query = select(Call).where(Call.subscription_id == each.consumer.subscription, Call.verdict != "refused")
            recorded = [(stays[c.stay_id or 0], bool(c.units)) for c in session.scalars(query.order_by(Call.at_us))]
            expected = [
                ((free, each.at(at)[1].get("pricing", {}).get("prices")), path == COUNTED)
                for at, free, path in each.calls
            ]
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
            assert got == expected, (each, start, got, expected, case["segments"])
    assert rows
