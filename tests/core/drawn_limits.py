"""Limits and calls that tests draw from."""

from hypothesis import strategies as st

from calm_tariff.core.limits import Call, Pace, Quota, Rate, Window
from calm_tariff.core.periods import zone

T0 = 1_788_300_000_000_000
LISBON = zone("Europe/Lisbon")
rates = st.builds(
    Rate,
    name=st.just("r"),
    counted_per=st.just("key"),
    calls=st.integers(1, 9),
    per_seconds=st.integers(1, 5),
    burst=st.integers(1, 9),
)
windows = st.builds(
    Window,
    name=st.just("w"),
    counted_per=st.just("key"),
    calls=st.integers(1, 9),
    per_seconds=st.integers(1, 5),
    rolling=st.booleans(),
)
paces = st.builds(
    Pace,
    name=st.just("p"),
    counted_per=st.just("key"),
    calls=st.integers(1, 9),
    per_seconds=st.integers(1, 5),
    max_wait_ms=st.integers(0, 3000),
)
quotas = st.builds(
    Quota,
    name=st.just("q"),
    counted_per=st.just("key"),
    units=st.integers(1, 20),
    every=st.sampled_from(["minute", "hour"]),
    aligned=st.sampled_from(["calendar", "subscription"]),
    when_spent=st.just("refuse"),
)
gaps = st.lists(st.integers(0, 900_000), min_size=1, max_size=80)


def call(at: int, key: str = "k", operation: str = "GET /a", units: int = 1, settles: bool = False) -> Call:
    return Call(
        at_us=at,
        key=key,
        application="a",
        consumer="c",
        subscription="s",
        operation=operation,
        units=units,
        values=None,
        settles=settles,
    )


def instants(steps: list[int]) -> list[int]:
    at, found = T0, []
    for step in steps:
        at += step
        found.append(at)
    return found
