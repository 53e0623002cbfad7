"""Recorded calls of the demo: made up from a fixed seed, decided by the same core that serves."""

from __future__ import annotations

import random
import re
from bisect import bisect
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any

from calm_tariff.core.counts import house_name, plain_names
from calm_tariff.core.ids import call_id
from calm_tariff.core.layers import House, Layer
from calm_tariff.core.limiter import Clock, Stack
from calm_tariff.core.limits import Call, Quota, Units
from calm_tariff.core.meters import Meter, Outcome, costs_of, reading
from calm_tariff.core.periods import HOUR, MINUTE, SECOND, day_start, local_day, zone
from calm_tariff.core.terms import PlanTerms
from calm_tariff.demo.scenario import Traffic
from calm_tariff.formats.journal import rungs
from calm_tariff.services.serve.gateway_feed import Feed

Stay = tuple[int, int, PlanTerms, int]
_PARAMETER = re.compile(r"\{(\w+)\}")
_FILLINGS = {
    "id": ("lm-01", "lm-02", "lm-03", "lm-04", "lm-05", "lm-06"),
    "harbour": ("saltgrave", "larkmouth", "thornhithe"),
    "berth": tuple("123456789"),
    "buoy": ("b-1", "b-2", "b-3"),
    "area": ("bar", "bank", "ledge", "sound"),
    "sheet": ("larkmouth", "pellow"),
    "z": ("12", "13", "14"),
    "x": tuple(map(str, range(1930, 1960))),
    "y": tuple(map(str, range(1510, 1530))),
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Caller:
    """One key of an application on a plan, and how it calls. Stays: (id, revision id, terms, start µs)."""

    consumer_id: int
    application_id: int
    key_id: int
    product_id: int
    plan_id: int
    subscription_id: int
    started_us: int
    stays: tuple[Stay, ...]
    traffic: Traffic
    share: float


@dataclass(frozen=True, slots=True)
class Called:
    """An operation that is called: whose it is, how, and what its calls look like."""

    operation_id: int
    version_id: int
    method: str
    path: str
    meters: tuple[tuple[int, Meter], ...]
    paths: list[str]

    @classmethod
    def of(cls, operation_id: int, version_id: int, method: str, path: str, meters: dict[int, Meter]) -> Called:
        """An operation with as many filled-in paths as anybody will look at."""
        dice = random.Random(path)
        paths = [_filled(dice, path) for _ in range(128 if "{" in path else 1)]
        return cls(
            operation_id=operation_id,
            version_id=version_id,
            method=method,
            path=path,
            meters=tuple(meters.items()),
            paths=paths,
        )


@dataclass(frozen=True, slots=True)
class World:
    """What calls run against: the present feed, and what each product's callers call, with weights that
    add up."""

    feed: Feed
    called: dict[int, tuple[list[Called], list[int]]]


def recorded(world: World, callers: list[Caller], start: datetime, now_us: int, seed: int) -> Iterator[dict[str, Any]]:
    """All calls from the start up to now, in order of time, as rows of `Call`."""
    dice = random.Random(seed)
    where = zone(world.feed.time_zone)
    wanted: list[tuple[int, int]] = []
    for place, caller in enumerate(callers):
        day = local_day(caller.started_us, where)
        while (midnight := day_start(day, where)) < now_us:
            wanted.extend((at, place) for at in _day(dice, caller, midnight, day.weekday()))
            day += timedelta(days=1)
    wanted.sort()
    counts: dict[tuple[str, str], Any] = {}
    clock = Clock()
    stacks: dict[int, Stack] = {}
    house = world.feed.house("live")
    layers = house.layers
    for at, place in wanted:
        caller = callers[place]
        if caller.started_us <= at < now_us:
            stay = [stay for stay in caller.stays if stay[3] <= at][-1]
            stack = stacks.get(stay[1]) or _stack(world, caller, stay, house)
            stacks[stay[1]] = stack
            yield _call(dice, world, caller, stay, at=at, stack=stack, counts=counts, clock=clock, house=layers)


def _day(dice: random.Random, caller: Caller, midnight: int, weekday: int) -> Iterator[int]:
    traffic = caller.traffic
    mean = traffic.daily * caller.share * (traffic.weekend if weekday >= 5 else 1)
    first, last = traffic.hours
    for _ in range(max(0, round(dice.gauss(mean, mean**0.5)))):
        # Busiest in the middle of the day, with a tail to both ends.
        hour = dice.triangular(first, last, (first + last) / 2)
        yield midnight + int(hour * HOUR) + int(dice.random() * SECOND)
    if traffic.burst and weekday in traffic.burst_days:
        begin = midnight + first * HOUR + dice.randrange(20 * MINUTE)
        for _ in range(traffic.burst):
            begin += dice.randrange(15_000, 60_000)
            yield begin


def _stack(world: World, caller: Caller, stay: Stay, house: House) -> Stack:
    """The limits of a revision as the gateway would compile them; whose counts they share, too. A revision changes no
    count's kind, meter or window in the scenario, so that every name is plain."""
    feed = world.feed
    layered = house.with_plan(stay[2])
    above = ("provider", "api")
    names = plain_names(caller.plan_id, stay[2], (), caller.started_us)
    scopes = [house_name(e.layer, e.limit) if e.layer in above else names[e.limit.name] for e in layered]
    return Stack([each.limit for each in layered], zone(feed.time_zone), 0, scopes)


def _call(
    dice: random.Random,
    world: World,
    caller: Caller,
    stay: Stay,
    at: int,
    stack: Stack,
    counts: dict[tuple[str, str], Any],
    clock: Clock,
    house: dict[str, Layer],
) -> dict[str, Any]:
    known, weights = world.called[caller.product_id]
    op = known[bisect(weights, dice.random() * weights[-1])]
    operation = str(op.operation_id)
    costs = costs_of(tuple(m for _, m in op.meters), operation, "live", "key")
    call = Call(
        at_us=at,
        key=str(caller.key_id),
        application=str(caller.application_id),
        consumer=str(caller.consumer_id),
        subscription=str(caller.subscription_id),
        operation=operation,
        costs=costs,
    )
    decision = stack.decide(call, counts, clock)
    status, size, took = 429, 420, 250 + int(dice.random() * 350)
    units: dict[str, str] = {}
    counted: dict[str, list[Any]] = {}
    reported: dict[str, str | None] = {}
    if decision.verdict != "refused":
        luck = dice.random()
        status = (201 if op.method == "POST" else 200) if luck < 0.97 else 404 if luck < 0.992 else 500
        size = _size(dice, op) if status < 300 else 60
        took = decision.wait_us + int(dice.lognormvariate(9.2, 0.35))
        cells = str(4 + int(dice.random() * 20)) if ":summarise" in op.path else None
        outcome = Outcome(operation=operation, status=status, bytes_out=size, reported=cells)
        reported = {meter.header: cells for _, meter in op.meters if meter.header and cells is not None}
        truth: dict[str | None, Units] = {}
        for meter_id, meter in op.meters:
            read = reading(meter, outcome)
            truth[meter.key] = read.units if read else 0
            if read is not None:
                units[str(meter_id)] = str(read.units)
        stack.settle(call, truth, counts)
        counted = {
            c.scope: [c.subject, c.state[0], c.ends_us, str(truth[c.limit.meter])]
            for c in decision.checks
            if isinstance(c.limit, Quota) and truth[c.limit.meter]
        }
    return {
        "call_id": call_id(at, dice.getrandbits(80)),
        "at_us": at,
        "source": "demo",
        "environment": "live",
        "verdict": decision.verdict,
        "refused_by": decision.by,
        "status": status,
        "wait_us": decision.wait_us,
        "took_us": took,
        "retry_after_us": decision.retry_after_us,
        "bytes_in": 0,
        "bytes_out": size,
        "method": op.method,
        "path": op.paths[int(dice.random() * len(op.paths))],
        "operation_id": op.operation_id,
        "api_version_id": op.version_id,
        "product_id": caller.product_id,
        "revision_id": stay[1],
        "stay_id": stay[0],
        "subscription_id": caller.subscription_id,
        "application_id": caller.application_id,
        "consumer_id": caller.consumer_id,
        "key_id": caller.key_id,
        "checks": rungs(decision, house),
        "units": units,
        "told": {},
        "credential": "key",
        "decide_us": 40 + took % 60,
        "back_end_us": 0 if decision.verdict == "refused" else took - decision.wait_us - 150,
        "reserved": int(max((c.cost for c in decision.checks), default=0)),
        "decided_us": at,
        "decided_order": 0,
        "carried": {},
        "remarks": [],
        "counted": counted,
        "reported": reported,
        "sent": _sent(caller.key_id),
        "outside_id": None,
        "usage_file_id": None,
        "strike_id": None,
    }


@lru_cache
def _sent(key_id: int) -> dict[str, Any]:
    """What a key's calls come with: an address that is kept for documents (RFC 5737), and a program's usual fields."""
    fields = {"accept": "application/json", "user-agent": f"shore/{1 + key_id % 4}.{key_id % 7}"}
    return {"address": f"203.0.113.{1 + key_id % 250}", "headers": fields}


def _size(dice: random.Random, op: Called) -> int:
    return int(9_000 + dice.random() * 52_000) if op.path.endswith(".png") else int(1400 + dice.random() * 500)


def _filled(dice: random.Random, path: str) -> str:
    """A path with its parameters filled in."""
    return _PARAMETER.sub(lambda found: dice.choice(_FILLINGS[found.group(1)]), path) if "{" in path else path
