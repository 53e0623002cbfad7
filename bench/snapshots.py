"""A snapshot of 100,000 keys: how long it takes to build, beside reading the same rows and no more; and what 10,000
active subscriptions cost in memory, beside a plain dict of their keys."""

from __future__ import annotations

import subprocess
import sys
import time
import tracemalloc
from statistics import median
from typing import Any

from calm_tariff.core.limiter import Clock
from calm_tariff.core.limits import Call
from calm_tariff.core.meters import Meter
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.services.serve.gateway_feed import Caller, Credential, Feed, ProductRules, Route
from calm_tariff.services.serve.grants import Grant

OPERATIONS = tuple((n, "GET", f"/things{n}/{{id}}") for n in range(1, 9))
TERMS = {
    "limits": [
        {"kind": "rate", "name": "Rate", "counted_per": "key", "calls": 10, "per_seconds": 1, "burst": 20},
        {
            "kind": "quota",
            "name": "Calls",
            "counted_per": "subscription",
            "units": 50_000,
            "every": "month",
            "aligned": "calendar",
            "when_spent": "refuse",
            "meter": "calls",
        },
    ],
    "pricing": {"prices": []},
}


def feed(keys: int) -> Feed:
    """Everything a gateway knows of so many applications, with a key, a subscription and eight operations each."""
    meter = Meter(key="calls", operations=frozenset(str(o) for o, _, _ in OPERATIONS), outcomes=("2xx",))
    return Feed(
        number=1,
        time_zone="Europe/Lisbon",
        routes=(Route(1, "Things v1", "/v1", "http://127.0.0.1:9", OPERATIONS),),
        credentials=tuple(Credential(f"{n:064x}", n, n, n, "live") for n in range(1, keys + 1)),
        grants=tuple(
            Grant(
                subscription_id=n,
                application_id=n,
                consumer_id=n,
                product_id=1,
                product="Product",
                plan_id=1,
                plan="Plan",
                revision_id=1,
                stay_id=n,
                started_us=0,
            )
            for n in range(1, keys + 1)
        ),
        terms={1: read(PlanTerms, TERMS)},
        meters={1: meter},
        sold={1: frozenset(o for o, _, _ in OPERATIONS)},
        provider_limits=(),
        api_limits=(),
        callers=tuple(
            Caller(
                application_id=n, consumer_id=n, client_id=f"app-{n}", name="Application", consumer="Consumer", tags=()
            )
            for n in range(1, keys + 1)
        ),
        products={1: ProductRules(frozenset({"key"}), "x-api-key", "", False)},
    )


def _seconds(work: Any) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def build(keys: int = 100_000, rounds: int = 5) -> dict[str, float]:
    """Seconds to build a snapshot, and how many times as long as making one dict of its keys takes."""
    known = feed(keys)
    pairs = [
        (_seconds(lambda: Snapshot(known)), _seconds(lambda: {c.key_hash: c for c in known.credentials}))
        for _ in range(rounds)
    ]
    return {"seconds": median(a for a, _ in pairs), "ratio": median(a / b for a, b in pairs)}


def memory(subscriptions: int = 10_000) -> dict[str, float]:
    """Megabytes that so many subscriptions hold once each has called: rows, compiled access and counts; and how
    many times the rows alone."""
    tracemalloc.start()
    known = feed(subscriptions)
    rows = tracemalloc.get_traced_memory()[0]
    snapshot, clock = Snapshot(known), Clock()
    counts: dict[tuple[str, str], Any] = {}
    for n in range(1, subscriptions + 1):
        access = snapshot.access(n, 1, "live", "key", 1_788_300_000_000_000)
        assert access
        access.stack.decide(
            Call(
                at_us=1_788_300_000_000_000 + n,
                key=str(n),
                application=str(n),
                consumer=str(n),
                subscription=str(n),
                operation="1",
            ),
            counts,
            clock,
        )
    whole = tracemalloc.get_traced_memory()[0]
    tracemalloc.stop()
    return {"megabytes": whole / 1e6, "ratio": whole / rows}


def measure() -> dict[str, float]:
    """Both, memory in a process of its own."""
    built = build()
    code = "from bench.snapshots import memory; found = memory(); print(found['megabytes'], found['ratio'])"
    ran = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    megabytes, ratio = map(float, ran.stdout.split())
    return {
        "build_seconds": built["seconds"],
        "build_ratio": built["ratio"],
        "megabytes": megabytes,
        "memory_ratio": ratio,
    }
