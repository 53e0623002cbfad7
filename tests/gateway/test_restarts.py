"""What is left of every limit never changes by a restart: held against counts that were never forgotten."""

from __future__ import annotations

import random
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest

from calm_tariff.core.limiter import Clock, Stack
from calm_tariff.core.periods import SECOND, instant_of
from calm_tariff.gateway.counts.counters import Counters, Decided
from calm_tariff.services.admit import carrying_over, overrides
from calm_tariff.services.admit.overrides import OverrideTyped
from calm_tariff.services.base.context import Actor
from calm_tariff.services.compose.sheet import plans, tariff_sheet
from tests.gateway.simulated import Simulated
from tests.office import START, Office, terms

PER = ("key", "application", "consumer", "subscription", "everyone", "header:X-Desk", "address")


@dataclass
class Remembering:
    """Counters that forget, beside counts that never do: they must say the same of every call."""

    inner: Counters
    counts: dict[tuple[str, str], Any] = field(default_factory=dict)
    clock: Clock = field(default_factory=Clock)
    compared: int = 0

    @property
    def era(self) -> str:
        return self.inner.era

    @property
    def state(self) -> str:
        return self.inner.state

    async def decide(self, stack: Stack, call: Any) -> Decided:
        known = stack.decide(call, self.counts, self.clock)
        decided = await self.inner.decide(stack, call)
        got = decided.decision
        assert (got.verdict, got.by, got.wait_us, got.retry_after_us) == (
            known.verdict,
            known.by,
            known.wait_us,
            known.retry_after_us,
        )
        assert got.remaining == known.remaining
        self.compared += len(got.checks)
        return decided

    def settle(self, stack: Stack, call: Any, truth: Any, era: str) -> None:
        stack.settle(call, truth, self.counts)
        self.inner.settle(stack, call, truth, era)


def limit(dice: random.Random, name: str, quotas_alone: bool = False) -> dict[str, Any]:
    """Some limit of some kind, counted for somebody."""
    per = dice.choice(PER)
    kind = "quota" if quotas_alone else dice.choice(["rate", "window", "pace", "quota", "quota"])
    made = {"kind": kind, "name": name, "counted_per": per, "across_consumers": dice.random() < 0.3}
    if kind == "quota":
        return {
            **made,
            "units": dice.randint(2, 25),
            "every": dice.choice(["minute", "hour", "day", "week", "month"]),
            "aligned": dice.choice(["calendar", "subscription"]),
            "meter": dice.choice(["forecast_calls", None]),
            "when_spent": dice.choice(["refuse", "refuse", "charge", "warn"]),
        }
    made |= {"calls": dice.randint(1, 30), "per_seconds": dice.choice([1, 7, 60, 3600])}
    if kind == "rate":
        return {**made, "burst": dice.randint(1, 20)}
    if kind == "window":
        return {**made, "rolling": dice.random() < 0.6}
    return {**made, "max_wait_ms": 20}


def tariff(dice: random.Random) -> dict[str, Any]:
    limits = [limit(dice, f"limit {n}", n < 2) for n in dice.sample(range(6), 4)]
    return {"limits": limits, "pricing": terms()["pricing"]}


class Chances:
    """What happens to an office while calls go on."""

    def __init__(self, here: Simulated, dice: random.Random) -> None:
        self.here, self.dice, self.office = here, dice, here.office
        self.tomas = self.office.ctx.acting(Actor("Tomas", frozenset({"operations"})))
        self.happened: set[str] = set()

    @property
    def today(self) -> date:
        return self.office.clock.now.astimezone(ZoneInfo("Europe/Lisbon")).date()

    def something(self) -> None:
        what = self.dice.choice(["publish", "override", "lift", "move", "restart", "restart", "ship", "ship"])
        getattr(self, what)()
        self.happened.add(what)
        self.here.learn()

    def publish(self) -> None:
        sheet = tariff_sheet.sheet(self.office.manager, self.office.product)
        head = self.dice.choice([p for p in sheet.plans if p.state == "on sale"])
        tariff_sheet.save_draft(self.office.manager, head.id, head.edition, tariff(self.dice))
        today = self.today
        self.office.publish("at date", "", date.fromordinal(today.toordinal() + 1))

    def override(self) -> None:
        one = self.dice.choice(self.office.consumers)
        wanted = limit(self.dice, self.dice.choice(["limit 1", "limit 3", "own"]), quotas_alone=True) | {"meter": None}
        held = overrides.of_consumer(self.tomas, one.member.consumer_id)
        if wanted["name"] in {o.name for o in held if o.state == "in force"}:
            return
        wanted["meter"] = "forecast_calls"
        until = date.fromordinal(self.today.toordinal() + self.dice.randrange(3))
        overrides.make(self.tomas, one.subscription, OverrideTyped(wanted, "Why not.", until))

    def lift(self) -> None:
        open_now = {
            o.id
            for c in self.office.consumers
            for o in overrides.of_consumer(self.tomas, c.member.consumer_id)
            if o.state == "in force"
        }
        if open_now:
            overrides.lift(self.tomas, self.dice.choice(sorted(open_now)))

    def move(self) -> None:
        sheet = tariff_sheet.sheet(self.office.manager, self.office.product)
        on_sale = [p.id for p in sheet.plans if p.state == "on sale"]
        if len(on_sale) > 1:
            source, target = self.dice.sample(on_sale, 2)
            carrying_over.withdraw(self.office.manager, source, target)

    def ship(self) -> None:
        self.here.ship()

    def restart(self) -> None:
        remembering = self.here.gateway.counters
        assert isinstance(remembering, Remembering)
        self.here.restart()
        remembering.inner = self.here.gateway.counters
        self.here.gateway.counters = remembering


@pytest.mark.parametrize("store", ["memory", "redis"])
@pytest.mark.parametrize("seed", [0, 1, 3, 4])
def test_no_restart_changes_what_is_left(office: Office, tmp_path: Path, store: str, seed: int, redis_url: str) -> None:
    dice = random.Random(seed)
    for plan in ("Third", "Fourth"):
        head = plans.add(office.manager, office.product, plan).plans[-1]
        tariff_sheet.save_draft(office.manager, head.id, head.edition, tariff(dice))
        office.plans[plan] = head.id
    office.publish("keep")
    office.consumers += [office.admit("Anglers", "Third"), office.admit("Divers", "Fourth")]
    here = Simulated(office, tmp_path, redis_url if store == "redis" else "")
    here.gateway.counters = remembering = Remembering(here.gateway.counters)
    chances = Chances(here, dice)
    at = instant_of(START)
    statuses = []
    try:
        for _ in range(260):
            luck = dice.random()
            at += dice.randrange(SECOND) if luck < 0.8 else dice.randrange(3600 * SECOND if luck < 0.97 else 10**11)
            here.at(at)
            if dice.random() < 0.15:
                chances.something()
            one = dice.choice(office.consumers)
            headers = {} if dice.random() < 0.4 else {"x_desk": dice.choice(["north", "south"])}
            path = dice.choice(["/stations", "/stations/lm-01", "/stations/lm-01/tides"])
            statuses.append(here.call(one.secret, path, **headers).status)
    finally:
        here.close()
    assert {"restart", "publish", "override"} <= chances.happened
    assert set(statuses) == {200, 429} and remembering.compared > 300
