"""The whole gateway against a brute-force reference: thousands of calls at simulated instants, by both counter
stores, and both agreeing with each other."""

from __future__ import annotations

import asyncio
import random
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest

from calm_tariff.formats.journal import closed_segments, read_segment
from calm_tariff.gateway.app import Gateway
from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.counts.counters import Counters, LocalCounters
from calm_tariff.gateway.counts.shared_counters import SharedCounters, connect
from calm_tariff.gateway.recording.journal import Journal
from calm_tariff.services.admit import credentials
from calm_tariff.services.compose.sheet import tariff_sheet
from calm_tariff.services.serve.gateway_feed import Example, read_feed
from tests.gateway.reference import Reference
from tests.office import Office
from tests.processes import PATIENCE

START = 1_792_886_400_000_000 - 3 * 3_600_000_000  # three hours before a clock change in Lisbon, on 2026-10-25
RATE = {"kind": "rate", "name": "Rate", "counted_per": "key", "calls": 7, "per_seconds": 3, "burst": 3}
LIMITS: list[dict[str, Any]] = [
    RATE,
    {
        "kind": "rate",
        "name": "Odd rate",
        "counted_per": "application",
        "calls": 999_983,
        "per_seconds": 86_400,
        "burst": 1_000_000,
    },
    {"kind": "window", "name": "Fixed", "counted_per": "application", "calls": 9, "per_seconds": 5, "rolling": False},
    {"kind": "window", "name": "Rolling", "counted_per": "consumer", "calls": 11, "per_seconds": 7, "rolling": True},
    {"kind": "pace", "name": "Pace", "counted_per": "everyone", "calls": 997, "per_seconds": 1, "max_wait_ms": 3},
    {
        "kind": "quota",
        "name": "Day",
        "counted_per": "subscription",
        "units": 1500,
        "every": "day",
        "aligned": "calendar",
        "when_spent": "refuse",
        "meter": "forecast_calls",
    },
    {
        "kind": "quota",
        "name": "By header",
        "counted_per": "header:X-Desk",
        "units": 60,
        "every": "hour",
        "aligned": "calendar",
        "when_spent": "refuse",
        "meter": "forecast_calls",
    },
    {
        "kind": "quota",
        "name": "By address",
        "counted_per": "address",
        "units": 100_000,
        "every": "month",
        "aligned": "calendar",
        "when_spent": "warn",
        "meter": "forecast_calls",
    },
]
OVERRIDE = {"kind": "rate", "name": "Narrow", "counted_per": "key", "calls": 1, "per_seconds": 2, "burst": 2}


def tariff(office: Office) -> dict[str, Any]:
    narrow = {**OVERRIDE, "applies_to": [str(office.operations["GET /stations/{id}/tides"])]}
    return {"limits": LIMITS, "overrides": [narrow], "pricing": {"prices": []}}


def calls(seed: int, many: int, keys: list[str]) -> list[tuple[int, dict[str, Any]]]:
    """Calls in bursts and lulls over a clock change; some step back in time, which counts as the last instant."""
    dice, at, made = random.Random(seed), START, []
    for _ in range(many):
        luck = dice.random()
        gap = dice.randrange(900_000) if luck < 0.6 else dice.randrange(3) if luck < 0.9 else dice.randrange(9_000_000)
        at += gap if luck < 0.99 else 1_800_000_000 if luck < 0.995 else -400_000
        path = dice.choice(["/stations", "/stations/lm-01", "/stations/lm-01/tides"])
        desk = dice.choice(["", "north", "south"])
        made.append(
            (at, {"key": dice.choice(keys), "path": path, "desk": desk, "address": f"10.0.0.{dice.randrange(2)}"})
        )
    return made


@pytest.mark.parametrize("store", ["memory", "redis"])
def test_the_gateway_decides_as_the_reference_does(office: Office, tmp_path: Path, store: str, redis_url: str) -> None:
    consumers = office.consumers
    second = credentials.make_key(office.acting(consumers[0]), consumers[0].application, "second")
    sheet = tariff_sheet.sheet(office.manager, office.product)
    ketch = next(p for p in sheet.plans if p.name == "Ketch")
    tariff_sheet.save_draft(office.manager, ketch.id, ketch.edition, tariff(office))
    office.publish("next period")
    feed = read_feed(
        replace(office.ctx, clock=lambda: __import__("datetime").datetime.fromtimestamp(START / 1e6, ZoneInfo("UTC")))
    )
    ids = office.operations
    answer = Example(200, "text/plain", "tide")
    routes = tuple(replace(r, examples=tuple((o, "example", answer) for o in ids.values())) for r in feed.routes)
    snapshot = Snapshot(replace(feed, routes=routes))
    secrets = {consumers[0].secret: 0, second.secret: 0, consumers[1].secret: 1}
    made = calls(7, 3000, list(secrets))

    async def through_the_gateway() -> list[tuple[str, str | None, int]]:
        counters: Counters = LocalCounters()
        if store == "redis":
            shared = SharedCounters(connect(redis_url, PATIENCE), f"reference-{tmp_path.name}", own_time=False)
            await shared.redis.hset(shared.key("clock"), "era", "one")
            shared.join("one")
            counters = shared
        gateway = Gateway(Journal(tmp_path), snapshot=snapshot, counters=counters)
        gateway.journal.start()
        statuses = []
        for at, call in made:
            gateway.now = lambda at=at: at  # type: ignore[assignment,misc]
            headers = [(b"x-api-key", call["key"].encode()), (b"x-forwarded-for", call["address"].encode())]
            headers += [(b"x-desk", call["desk"].encode())] if call["desk"] else []
            gateway.trusted = frozenset({"127.0.0.1"})
            scope = {
                "type": "http",
                "method": "GET",
                "raw_path": f"/tides/v1{call['path']}".encode(),
                "query_string": b"",
                "headers": headers,
                "client": ("127.0.0.1", 1),
            }
            said: list[dict[str, Any]] = []

            async def send(message: dict[str, Any], said: list[dict[str, Any]] = said) -> None:
                said.append(message)

            await gateway(scope, None, send)  # type: ignore[arg-type]
            statuses.append(said[0]["status"])
        gateway.journal.stop()
        kept = [c for path in closed_segments(tmp_path, ".") for c in read_segment(path).records]
        assert statuses == [429 if c["verdict"] == "refused" else 200 for c in kept]
        return [(c["verdict"], c["refused_by"], c["wait_us"]) for c in kept]

    with ThreadPoolExecutor(1) as aside:
        got = aside.submit(asyncio.run, through_the_gateway()).result()
    metered = {"/stations": False, "/stations/lm-01": True, "/stations/lm-01/tides": True}
    limits = [
        {**limit, "applies_to": [p for p, counted in metered.items() if counted]} if limit["kind"] == "quota" else limit
        for limit in LIMITS
    ]
    reference = Reference([*limits, {**OVERRIDE, "applies_to": ["/stations/lm-01/tides"]}], ZoneInfo("Europe/Lisbon"))
    for n, ((at, call), verdict) in enumerate(zip(made, got, strict=True)):
        who = secrets[call["key"]]
        known = {
            "key": call["key"],
            "application": who,
            "consumer": who,
            "subscription": who,
            "units": 1,
            "operation": call["path"],
            "address": call["address"],
        }
        if call["desk"]:
            known["header:X-Desk"] = call["desk"]
        assert verdict == reference.decide(at, known), (n, at, call)
    kinds = {by for _, by, _ in got}
    assert {"Rate", "Fixed", "Rolling", "By header", "Narrow"} <= kinds, kinds  # each of them had its say
    assert {v for v, _, _ in got} == {"served", "held", "refused"}
