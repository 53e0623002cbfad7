"""What would have let a refused call in: held against the limiter itself."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.limiter import Clock, Stack
from calm_tariff.core.limits import Call, Limit, Pace, Quota, Rate, Window
from calm_tariff.core.periods import zone
from calm_tariff.core.relief import Refusal, least_change, would_have_let_in

START = 1_788_300_000_000_000
LIMITS: list[Limit] = [
    Rate(name="L", counted_per="key", calls=3, per_seconds=2, burst=4),
    Window(name="L", counted_per="key", calls=5, per_seconds=3, rolling=True),
    Window(name="L", counted_per="key", calls=5, per_seconds=3, rolling=False),
    Pace(name="L", counted_per="key", calls=7, per_seconds=2, max_wait_ms=400),
    Quota(name="L", counted_per="key", units=6, every="hour", aligned="calendar", when_spent="refuse"),
]


@given(st.sampled_from(LIMITS), st.lists(st.integers(0, 700_000), min_size=8, max_size=40))
def test_the_least_change_lets_in_and_nothing_less_does(limit: Limit, gaps: list[int]) -> None:
    """At the first refusal: with the changed limit the same calls are all let in, with one less they are not."""
    at, calls = START, []
    for gap in gaps:
        at += gap
        calls.append(at)
    refusal = _first_refusal(limit, calls)
    if refusal is None:
        return
    until, found = refusal
    needed = least_change(found)
    assert _first_refusal(needed, calls[: until + 1]) is None
    assert would_have_let_in([found], [needed])
    assert not would_have_let_in([found], [limit])
    assert would_have_let_in([found], [])
    name, value = _raised(needed)
    assert _first_refusal(replace(needed, **{name: value - 1}), calls[: until + 1]) is not None


def _raised(limit: Limit) -> tuple[str, Any]:
    name = {"rate": "burst", "window": "calls", "pace": "max_wait_ms", "quota": "units"}[limit.kind]
    return name, getattr(limit, name)


def _first_refusal(limit: Limit, calls: list[int]) -> tuple[int, Refusal] | None:
    stack, counts, clock = Stack([limit], zone("Europe/Lisbon"), 0), {}, Clock()
    for n, at in enumerate(calls):
        decision = stack.decide(
            Call(at_us=at, key="k", application="a", consumer="c", subscription="s", operation="GET /x"), counts, clock
        )
        if decision.verdict == "refused":
            check = decision.checks[0]
            used = check.state[1] if isinstance(limit, Quota) else getattr(limit, "calls", 0) - (check.left or 0)
            return n, Refusal(limit, used, 1, decision.retry_after_us)
    return None
