"""Shared counts that were forgotten, or missed some calls, are begun anew by one gateway while all others are quiet."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest

from calm_tariff.core.limiter import Stack
from calm_tariff.core.limits import Call, Rate
from calm_tariff.gateway.counts import rebuilding
from calm_tariff.gateway.counts.rebuilding import Keeper
from calm_tariff.gateway.counts.shared_counters import SharedCounters, connect
from tests.processes import PATIENCE, awaited

STACK = Stack([Rate(name="Rate", counted_per="key", calls=1, per_seconds=1000, burst=10)], ZoneInfo("UTC"), 0)
# Until when ten calls of one each thousand seconds are spent, in µs from now.
ALL_SPENT = 10 * 1000 * 1_000_000
CALL = Call(at_us=0, key="1", application="1", consumer="1", subscription="1", operation="1")


class Machines:
    """Gateways that share counts, each with its keeper. `spent` says that all of a key's calls are recorded."""

    def __init__(self, url: str, space: str, count: int) -> None:
        self.names = [f"gateway-{n}" for n in range(1, count + 1)]
        self.spent = False
        self.quietened: list[str] = []
        self.rebuilt_by: list[str] = []
        self.quiet_after: dict[str, int] = {}
        self.keepers = {}
        for name in self.names:
            self.keepers[name] = Keeper(
                name,
                SharedCounters(connect(url, PATIENCE), space),
                lambda name=name: self.quieten(name),
                self.others,
                lambda name=name: self.rebuild(name),
            )

    async def others(self) -> frozenset[str]:
        return frozenset(self.names)

    async def quieten(self, name: str) -> None:
        # Whoever has begun a rebuilding of the counts may not have counted on them meanwhile.
        assert self.keepers[name].counters.mode == "rebuilding"
        self.quietened.append(name)

    async def rebuild(self, name: str) -> tuple[dict[tuple[str, str], Any], Any, int]:
        assert set(self.names) <= set(self.quietened)  # nobody counts any more
        self.rebuilt_by.append(name)
        seconds, rest = await self.redis.time()
        now = seconds * 1_000_000 + rest
        (scope,) = (compiled.scope for compiled in STACK.compiled)
        return {(scope, "1"): now + ALL_SPENT} if self.spent else {}, iter([STACK]), now

    @property
    def redis(self) -> Any:
        return self.counters("gateway-1").redis

    def counters(self, name: str) -> SharedCounters:
        return self.keepers[name].counters

    async def until_shared(self) -> set[str]:
        """Wait until every gateway counts on Redis; the eras they know."""

        async def shared() -> set[str]:
            while {self.counters(name).mode for name in self.names} != {"shared"}:
                await asyncio.sleep(0.01)
            return {self.counters(name).era for name in self.names}

        return await asyncio.wait_for(shared(), PATIENCE)


@asynccontextmanager
async def following(machines: Machines, *names: str) -> AsyncIterator[None]:
    """The keepers of these, or of all, at work."""
    tasks = [asyncio.ensure_future(machines.keepers[name].follow()) for name in names or machines.names]
    try:
        yield
    finally:
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        for keeper in machines.keepers.values():
            await keeper.counters.redis.aclose()


@pytest.fixture
def space(tmp_path: Path) -> str:
    return f"rebuilding-{tmp_path.parent.name}-{tmp_path.name}"


def test_the_first_gateways_begin_together_with_what_is_recorded(redis_url: str, space: str) -> None:
    async def begun() -> None:
        machines = Machines(redis_url, space, 3)
        machines.spent = True
        async with following(machines):
            eras = await machines.until_shared()
            assert len(eras) == 1 and eras != {""}
            assert len(machines.rebuilt_by) == 1 and sorted(machines.quietened) == machines.names
            decided = await machines.counters("gateway-2").decide(STACK, CALL)
            assert decided.decision.verdict == "refused"  # the count that one has written holds for another
            assert (await machines.counters("gateway-3").decide(STACK, CALL._replace(key="2"))).decision.by is None

    awaited(begun())


def test_counts_that_redis_has_forgotten_are_rebuilt_under_another_era(redis_url: str, space: str) -> None:
    async def forgotten() -> None:
        machines = Machines(redis_url, space, 2)
        async with following(machines):
            first = await machines.until_shared()
            machines.quietened.clear()
            await machines.redis.delete(machines.counters("gateway-1").key("clock"))
            while len(machines.rebuilt_by) < 2:
                await asyncio.sleep(0.01)
            second = await machines.until_shared()
            assert len(second) == 1 and first != second

    awaited(forgotten())


def test_counts_that_missed_calls_of_one_gateway_are_rebuilt(redis_url: str, space: str) -> None:
    async def missed() -> None:
        machines = Machines(redis_url, space, 2)
        async with following(machines):
            first = await machines.until_shared()
            machines.quietened.clear()
            own = machines.counters("gateway-2")
            own.lose("away")  # it counts alone for a while
            assert (await own.decide(STACK, CALL)).remark and own.counted_alone
            while len(machines.rebuilt_by) < 2:
                await asyncio.sleep(0.01)
            assert await machines.until_shared() != first
            assert not own.counted_alone

    awaited(missed())


def test_nobody_rebuilds_before_all_that_live_are_quiet(redis_url: str, space: str) -> None:
    async def waits() -> None:
        machines = Machines(redis_url, space, 2)
        async with following(machines, "gateway-1"):
            while "gateway-1" not in machines.quietened:
                await asyncio.sleep(0.01)
            for _ in range(30):  # however often it looks
                await asyncio.sleep(0.01)
                assert not machines.rebuilt_by
            other = asyncio.ensure_future(machines.keepers["gateway-2"].follow())
            assert len(await machines.until_shared()) == 1
            assert machines.rebuilt_by == ["gateway-1"]
            other.cancel()
            await asyncio.gather(other, return_exceptions=True)

    awaited(waits())


def test_who_is_overtaken_between_the_look_and_the_lead_does_not_begin_again(redis_url: str, space: str) -> None:
    async def overtaken() -> None:
        machines = Machines(redis_url, space, 2)
        first, second = machines.keepers.values()
        machines.quietened.append("gateway-2")  # it has not decided on anything yet
        first.others = alone
        lead = second.counters.redis.set

        async def lead_late(*what: Any, **how: Any) -> Any:
            second.counters.redis.set = lead
            await first.look()
            assert first.counters.mode == "shared"
            return await lead(*what, **how)

        second.counters.redis.set = lead_late
        await second.look()  # sees no counts, and nobody who begins them
        await second.look()
        assert (second.counters.mode, second.counters.era) == ("shared", first.counters.era)
        assert machines.rebuilt_by == ["gateway-1"]
        for keeper in (first, second):
            await keeper.counters.redis.aclose()

    async def alone() -> frozenset[str]:
        return frozenset({"gateway-1"})

    awaited(overtaken())


def test_the_lead_is_kept_up_for_as_long_as_it_takes(
    redis_url: str, space: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(rebuilding, "LEAD_MS", 2000)

    async def long() -> None:
        machines = Machines(redis_url, space, 1)
        (keeper,) = machines.keepers.values()
        leader, rebuild = keeper.counters.key("leader"), keeper.rebuild
        kept: list[bool] = []

        async def until_it_would_be_over() -> Any:
            lead, before = await machines.redis.get(leader), await machines.redis.pttl(leader)
            while (left := await machines.redis.pttl(leader)) <= before:
                before = left
                await asyncio.sleep(0.01)
            kept.append(await machines.redis.get(leader) == lead)
            return await rebuild()

        keeper.rebuild = until_it_would_be_over
        async with following(machines):
            await machines.until_shared()
        assert kept == [True] * len(machines.rebuilt_by)

    awaited(long())
