"""Counts in the memory of one gateway."""

from __future__ import annotations

from zoneinfo import ZoneInfo

from calm_tariff.core.limiter import Clock, Stack
from calm_tariff.core.limits import Call, Quota, Rate
from calm_tariff.gateway.counts.counters import Decided, LocalCounters
from tests.processes import awaited

AT = 1_789_000_000_000_000
QUOTA = Quota(
    name="Allowance", counted_per="key", units=3, every="month", aligned="calendar", when_spent="refuse", meter="calls"
)
STACK = Stack([Rate(name="Rate", counted_per="key", calls=1, per_seconds=1, burst=2), QUOTA], ZoneInfo("UTC"), 0)


def call(at_us: int, key: str = "1") -> Call:
    return Call(at_us=at_us, key=key, application="1", consumer="1", subscription="1", operation="1")


def decided(counters: LocalCounters, *at: int) -> list[Decided]:
    async def all_of_them() -> list[Decided]:
        return [await counters.decide(STACK, call(each)) for each in at]

    return awaited(all_of_them())


def test_calls_are_decided_one_after_the_other_and_refused_ones_take_nothing() -> None:
    made = decided(LocalCounters(), AT, AT, AT, AT + 1_000_000, AT + 2_000_000)
    assert [d.decision.verdict for d in made] == ["served", "served", "refused", "served", "refused"]
    assert [d.decision.by for d in made if d.decision.by] == ["Rate", "Allowance"]


def test_time_never_runs_back_for_a_decision() -> None:
    counters = LocalCounters({}, Clock(AT))
    assert [d.at_us for d in decided(counters, AT - 5_000_000, AT + 7, AT + 3)] == [AT, AT + 7, AT + 7]


def test_what_a_call_truly_came_to_stands_in_the_place_of_what_it_reserved() -> None:
    counters = LocalCounters()
    decided(counters, AT)
    counters.settle(STACK, call(AT), {"calls": 0}, "")
    assert [d.decision.verdict for d in decided(counters, *(AT + n * 1_000_000 for n in range(1, 5)))] == [
        "served",
        "served",
        "served",
        "refused",
    ]
    assert "memory" in counters.state
