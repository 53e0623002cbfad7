"""Decisions in core for four stacked limits, beside the `limits` package's in-memory fixed windows
doing four hits per call."""

from __future__ import annotations

import time
from statistics import median
from typing import Any

from limits import parse
from limits.storage import MemoryStorage
from limits.strategies import FixedWindowRateLimiter

from calm_tariff.core.limiter import Clock, Stack
from calm_tariff.core.limits import Call, Quota, Rate, Window
from calm_tariff.core.periods import zone

CALLS = 20_000
ROUNDS = 9
START = 1_788_300_000_000_000


def ours() -> float:
    """Seconds for the calls: a rate, a window, a shared rate and a monthly quota."""
    stack = Stack(
        (
            Rate(name="rate", counted_per="key", calls=10**6, per_seconds=1, burst=10**6),
            Window(name="window", counted_per="application", calls=10**9, per_seconds=60, rolling=False),
            Rate(name="all", counted_per="everyone", calls=10**6, per_seconds=1, burst=10**6),
            Quota(
                name="month",
                counted_per="subscription",
                units=10**12,
                every="month",
                aligned="calendar",
                when_spent="refuse",
            ),
        ),
        zone("Europe/Lisbon"),
        0,
    )
    counts: dict[tuple[str, str], Any] = {}
    clock = Clock()
    begin = time.perf_counter()
    for n in range(CALLS):
        stack.decide(
            Call(at_us=START + n * 10, key="k", application="a", consumer="c", subscription="s", operation="GET /x"),
            counts,
            clock,
        )
    return time.perf_counter() - begin


def theirs() -> float:
    """Seconds for the same number of calls, four fixed windows hit for each."""
    limiter = FixedWindowRateLimiter(MemoryStorage())
    windows = [
        (parse(f"1000000000/{span}"), key)
        for span, key in (("second", "k"), ("minute", "a"), ("second", "all"), ("month", "s"))
    ]
    begin = time.perf_counter()
    for _ in range(CALLS):
        for window, key in windows:
            limiter.hit(window, key)
    return time.perf_counter() - begin


def measure() -> dict[str, float]:
    """Medians over rounds that take turns, so that a slow moment of the machine meets both."""
    pairs = [(ours(), theirs()) for _ in range(ROUNDS)]
    return {
        "microseconds": median(a for a, _ in pairs) / CALLS * 1e6,
        "baseline_microseconds": median(b for _, b in pairs) / CALLS * 1e6,
        "ratio": median(b / a for a, b in pairs),
    }
