"""Keeping shared counts true: joining, noticing that Redis is away or back, and rebuilding from recorded usage.

Counts carry an *era*, a random word in Redis. Where it is missing, Redis has forgotten; where a gateway has counted
alone meanwhile, the shared counts have missed its calls. Either way they are begun anew:

1. One gateway takes the lead (a key that expires, should it die, and that it keeps up while it works) and takes the
   era away.
2. Every gateway stops deciding, lets the calls on their way end, ships its own journal and says that it is quiet.
3. When all that live are quiet, what is recorded is all there is. The leader writes counts from it, and a new era.
4. Everybody goes on. Calls wait meanwhile, for a second or two; should it take longer, the configured choice holds.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import secrets
from collections.abc import AsyncIterator, Awaitable, Callable
from dataclasses import dataclass, field
from typing import Any

from redis.exceptions import RedisError

from calm_tariff.gateway.counts.shared_counters import SharedCounters

log = logging.getLogger("calm_tariff.counters")
BEAT_SECONDS = 0.1
LEAD_MS = 20_000
DRAIN_SECONDS = 3.0


@dataclass(slots=True)
class Keeper:
    """Follows the shared counts of one gateway.

    `quieten` lets calls end and ships this gateway's journal; `others` names the gateways that live, itself
    included; `rebuild` gives the counts as recorded and the stacks they belong to.
    """

    name: str
    counters: SharedCounters
    quieten: Callable[[], Awaitable[None]]
    others: Callable[[], Awaitable[frozenset[str]]]
    rebuild: Callable[[], Awaitable[tuple[dict[tuple[str, str], Any], Any, int]]]
    afresh: bool = False
    _quiet_for: str = field(default="")

    async def follow(self) -> None:
        """Look after the counts until cancelled."""
        task = asyncio.current_task()
        assert task
        while not task.cancelling():  # Redis's client loses that where an answer comes at the very moment
            try:
                if self.counters.mode == "away":
                    await self.counters.forget_connections()
                await self.look()
            except (RedisError, OSError, TimeoutError) as error:
                if self.counters.mode != "away":
                    log.warning("Redis is away: %s", error.__class__.__name__)
                self.counters.lose("away")
            except Exception:
                # The database may be away while counts are rebuilt; it is tried again.
                log.exception("the counts could not be rebuilt")
            await asyncio.sleep(BEAT_SECONDS)

    async def look(self) -> None:
        """One look at Redis: join, take part in a rebuilding, or begin one. Raises what Redis raises."""
        counters, redis = self.counters, self.counters.redis
        era, leader = await redis.hget(counters.key("clock"), "era"), await redis.get(counters.key("leader"))
        if leader is not None:
            await self._take_part(str(leader))
            return
        missed = counters.counted_alone or self.afresh
        if era is not None and not missed:
            if counters.mode != "shared" or counters.era != era:
                counters.join(str(era))
            return
        await self._lead(missed)

    async def _lead(self, missed: bool) -> None:
        counters, redis = self.counters, self.counters.redis
        lead = f"{self.name}/{secrets.token_hex(6)}"
        if not await redis.set(counters.key("leader"), lead, nx=True, px=LEAD_MS):
            return
        if not missed and await redis.hget(counters.key("clock"), "era") is not None:
            # Between the look and the lead another has begun the counts anew, and is done.
            await redis.delete(counters.key("leader"))
            return
        log.warning("rebuilding the shared counts from recorded usage")
        await redis.hdel(counters.key("clock"), "era")
        await self._take_part(lead)
        quiet = counters.key("quiet", lead)
        while not (await self.others()) <= await redis.smembers(quiet):
            await asyncio.sleep(BEAT_SECONDS)
            if await redis.get(counters.key("leader")) != lead:
                return
        async with self._held(lead):
            counts, stacks, now_us = await self.rebuild()
            if await redis.get(counters.key("leader")) != lead:
                return
            await counters.fill(counts, stacks, now_us)
            era = secrets.token_hex(8)
            await redis.hset(counters.key("clock"), mapping={"era": era, "t": now_us})
        await redis.delete(counters.key("leader"), quiet)
        self.afresh = False
        counters.join(era)
        log.warning("the shared counts are rebuilt; era %s", era)

    @contextlib.asynccontextmanager
    async def _held(self, lead: str) -> AsyncIterator[None]:
        """Keep the lead for as long as this gateway lives and works on what is recorded, however much that is."""
        leader, redis, done = self.counters.key("leader"), self.counters.redis, asyncio.Event()

        async def hold() -> None:
            while not done.is_set() and await redis.get(leader) == lead:
                await redis.pexpire(leader, LEAD_MS)
                with contextlib.suppress(TimeoutError):
                    await asyncio.wait_for(done.wait(), LEAD_MS / 4000)

        holding = asyncio.ensure_future(hold())
        try:
            yield
        finally:
            done.set()  # and not cancelled: Redis's client may lose that
            await asyncio.gather(holding, return_exceptions=True)

    async def _take_part(self, lead: str) -> None:
        """Be quiet, and say so once; whoever leads goes on when everybody has."""
        counters = self.counters
        if counters.mode != "rebuilding":
            counters.lose("rebuilding")
        if self._quiet_for == lead:
            return
        with contextlib.suppress(TimeoutError):
            async with asyncio.timeout(DRAIN_SECONDS + 5):
                await self.quieten()
        quiet = counters.key("quiet", lead)
        await counters.redis.sadd(quiet, self.name)
        await counters.redis.pexpire(quiet, LEAD_MS)
        # What was counted alone until now is recorded, and will be in the counts to come.
        counters.counted_alone = False
        self._quiet_for = lead
