"""Counts in Redis: how long each is kept there."""

from __future__ import annotations

from pathlib import Path
from zoneinfo import ZoneInfo

import pytest

from calm_tariff.core.limiter import Stack
from calm_tariff.core.limits import Call, Pace, Rate, Window
from calm_tariff.gateway.counts.shared_counters import LATER_MS, SPARE_MS, SharedCounters, connect
from tests.processes import PATIENCE, awaited

LIMITS = [
    Rate(name="Rate", counted_per="key", calls=10, per_seconds=1, burst=20),
    Pace(name="Pace", counted_per="key", calls=10, per_seconds=1, max_wait_ms=500),
    Window(name="Window", counted_per="key", calls=10, per_seconds=60, rolling=False),
    Window(name="Rolling", counted_per="key", calls=10, per_seconds=60, rolling=True),
]
AT = 1_789_000_000_000_000
CALL = Call(at_us=AT, key="1", application="1", consumer="1", subscription="1", operation="1")


async def lives(shared: SharedCounters) -> list[int]:
    """How many ms each count is kept."""
    keys = [key async for key in shared.redis.scan_iter(match=shared.key("count", "*"))]
    left = [await shared.redis.pttl(key) for key in keys]
    return [life for life in left if life >= 0]  # one may have been forgotten since it was seen


@pytest.mark.parametrize("own_time", [True, False])
def test_a_count_is_forgotten_soon_after_it_decides_on_nothing_or_a_day_later_where_time_is_told_by_calls(
    redis_url: str, tmp_path: Path, own_time: bool
) -> None:
    stack = Stack(LIMITS, ZoneInfo("UTC"), 0)

    async def kept() -> tuple[list[int], list[int]]:
        shared = SharedCounters(connect(redis_url, PATIENCE), f"lives-{tmp_path.name}", own_time=own_time)
        await shared.redis.hset(shared.key("clock"), "era", "one")
        shared.join("one")
        decided = await shared.decide(stack, CALL)
        assert decided.decision.verdict == "served"
        counted = await lives(shared)
        rate, window = stack.compiled[0].scope, stack.compiled[2].scope
        counts = {(rate, "1"): (decided.at_us + 5_000_000) * 10, (window, "1"): (1, 1)}
        await shared.fill(counts, iter([stack]), decided.at_us)
        filled = await lives(shared)
        await shared.redis.aclose()
        return counted, filled

    spare = SPARE_MS if own_time else LATER_MS
    counted, filled = awaited(kept())
    # Those that decide for a second may be forgotten already, on a machine that is busy for longer.
    assert (len(counted) == 4 and len(filled) == 2) or (own_time and len(counted) >= 2 and filled)
    # The longest decides for a minute; what passes while this machine is busy only takes away.
    assert all(spare - 1000 * PATIENCE < life <= spare + 60_000 for life in counted)
    assert all(spare - 1000 * PATIENCE < life <= spare + 60_000 for life in filled)
