"""Counts that several gateways share, in Redis: one script per call, all or nothing, one clock.

The script says what every count was; the limiter of `core` then makes the decision of that, and must come to
the same verdict. While Redis is away the configured choice holds, and when it is back, or has forgotten, counts
are rebuilt from recorded usage before anybody counts on them: see `rebuilding`.
"""

from __future__ import annotations

import asyncio
import logging
import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path
from typing import Any, Literal

from redis.asyncio import Redis
from redis.asyncio.client import Pipeline
from redis.exceptions import RedisError

from calm_tariff.core.limiter import Clock, Stack
from calm_tariff.core.limits import Call, Pace, Quota, Rate, Units, Window, cost_of
from calm_tariff.core.periods import SECOND
from calm_tariff.gateway.counts.counters import CountersAway, Decided

log = logging.getLogger("calm_tariff.counters")
Choice = Literal["local", "refuse"]
Mode = Literal["shared", "away", "rebuilding"]
MILLION = 1_000_000
PATIENCE_SECONDS = 0.5
WAIT_SECONDS = 5.0
# How long a count is kept that decides on nothing more; longer where Redis's time, by which it forgets, may be far
# ahead of the calls' (the script has the same).
SPARE_MS, LATER_MS = 1_000, 86_400_000
_HERE = Path(__file__).parent


class Instants:
    """A rolling window's calls as the script tells of them: how many, the oldest, and the one whose leaving
    frees a place. Stands in for the list of them all."""

    __slots__ = ("count", "frees", "oldest")

    def __init__(self, count: int, oldest: int, frees: int) -> None:
        self.count, self.oldest, self.frees = count, oldest, frees

    def __len__(self) -> int:
        return self.count

    def __getitem__(self, place: int) -> int:
        return self.oldest if place == 0 and self.count else self.frees

    def append(self, instant: int) -> None:
        """Count one more."""
        self.count += 1

    def popleft(self) -> int:
        """Leave the oldest out; the next oldest is not known, and taken for as old as the one that frees."""
        gone, self.oldest, self.count = self.oldest, self.frees, self.count - 1
        return gone


@dataclass(slots=True)
class SharedCounters:
    """Counts in Redis. `space` sets installations apart; `choice` is what happens while Redis is away.

    With `own_time` the instants are Redis's, otherwise the calls'. `mirror` keeps what was last seen of
    every count met, from which a gateway counts alone.
    """

    redis: Redis
    space: str = "calm"
    choice: Choice = "local"
    mode: Mode = "rebuilding"
    era: str = ""
    mirror: dict[tuple[str, str], Any] = field(default_factory=dict)
    clock: Clock = field(default_factory=Clock)
    counted_alone: bool = False
    deciding: int = 0
    ready: asyncio.Event = field(default_factory=asyncio.Event)
    _scripts: dict[str, Any] = field(default_factory=dict)
    _settling: set[asyncio.Task[None]] = field(default_factory=set)
    own_time: bool = True

    def __post_init__(self) -> None:
        for name in ("counters", "settle"):
            self._scripts[name] = self.redis.register_script((_HERE / f"{name}.lua").read_text(encoding="utf-8"))

    @property
    def state(self) -> str:
        """How the store stands, in words."""
        if self.mode == "shared":
            return "shared in Redis"
        if self.mode == "rebuilding":
            return "being rebuilt from recorded usage"
        alone = "this gateway counts alone" if self.choice == "local" else "calls are refused"
        return f"Redis is away: {alone}"

    def key(self, *parts: str) -> str:
        """A Redis key; the hash tag keeps all of an installation's in one slot."""
        return ":".join((f"{{{self.space}}}", *parts))

    async def decide(self, stack: Stack, call: Call) -> Decided:
        """Decide by the shared counts, or by the configured choice while they are away."""
        self.deciding += 1
        try:
            if self.mode == "rebuilding":
                try:
                    async with asyncio.timeout(WAIT_SECONDS):
                        await self.ready.wait()
                except TimeoutError:
                    return self._alone(stack, call)
            if self.mode == "away":
                return self._alone(stack, call)
            try:
                return await self._shared(stack, call)
            except (RedisError, OSError, TimeoutError) as error:
                log.warning("Redis is away: %s", error.__class__.__name__)
                self.lose("away")
                return self._alone(stack, call)
        finally:
            self.deciding -= 1

    def settle(self, stack: Stack, call: Call, truth: Mapping[str | None, Units], era: str) -> None:
        """Put what a call truly came to in place of what it reserved, soon. Counts rebuilt while the call was on its
        way know nothing of it, so all of its units are added then."""
        stack.settle(call, truth, self.mirror)
        if self.mode != "shared":
            return
        by_difference: dict[Units, list[str]] = {}
        for each in stack.quotas(call, truth):
            more = truth[each.meter] - (each.cost(call) if era == self.era else 0)
            if more:
                by_difference.setdefault(more, []).append(self.key("count", each.scope, each.pick(call)))
        for more, keys in by_difference.items():
            task = asyncio.get_running_loop().create_task(self._settle(keys, call.at_us, more))
            self._settling.add(task)
            task.add_done_callback(self._settling.discard)

    async def settled(self) -> None:
        """Wait until everything settled so far has reached Redis."""
        while self._settling:
            await asyncio.gather(*self._settling, return_exceptions=True)

    def lose(self, mode: Mode) -> None:
        """Stop counting on Redis."""
        self.mode = mode
        self.ready.clear()

    async def forget_connections(self) -> None:
        """Close what idles from before Redis went away: each such connection would cost a later call its count."""
        await self.redis.connection_pool.disconnect(inuse_connections=False)

    def join(self, era: str) -> None:
        """Count on Redis again."""
        self.era, self.mode, self.counted_alone = era, "shared", False
        self.ready.set()

    async def fill(self, counts: dict[tuple[str, str], Any], stacks: Iterator[Stack], now_us: int) -> None:
        """Throw away what Redis knows and write these counts instead; those of limits that hold no more say nothing."""
        spare_ms = SPARE_MS if self.own_time else LATER_MS
        kinds: dict[str, Any] = {}
        for stack in stacks:
            for compiled in stack.compiled:
                kinds[compiled.scope] = compiled
        async with self.redis.pipeline(transaction=False) as pipe:
            async for key in self.redis.scan_iter(match=self.key("count", "*"), count=1000):
                pipe.delete(key)
            for (scope, subject), state in counts.items():
                if scope in kinds:
                    key = self.key("count", scope, subject)
                    _write(pipe, key, kinds[scope], state, now_us=now_us, spare_ms=spare_ms)
            await pipe.execute()

    def _alone(self, stack: Stack, call: Call) -> Decided:
        if self.choice == "refuse":
            raise CountersAway
        self.counted_alone = True
        decision = stack.decide(call, self.mirror, self.clock)
        remark = "the shared counts were away; this gateway counted alone"
        return Decided(decision, self.clock.last, self.era, remark)

    async def _shared(self, stack: Stack, call: Call) -> Decided:
        limits = stack.applying(call.operation, call.costs)
        keys = [self.key("count", c.scope, c.pick(call)) for c in limits]
        at = call.at_us
        for _ in range(5):
            fields: list[Any] = [self.era, 0 if self.own_time else call.at_us]
            for compiled in limits:
                fields += _fields(compiled, call, at)
            reply = await self._scripts["counters"](keys=[self.key("clock"), *keys], args=fields)
            said = reply[0]
            if said == "decided":
                return self._decided(stack, call, limits, reply)
            if said == "window":
                at = int(reply[1])
            elif said == "era":
                self.era = reply[1]
            else:  # Redis has forgotten everything
                self.lose("rebuilding")
                async with asyncio.timeout(WAIT_SECONDS):
                    await self.ready.wait()
        raise TimeoutError("the counts did not come to rest")

    def _decided(self, stack: Stack, call: Call, limits: Any, reply: list[Any]) -> Decided:
        at, admitted = int(reply[1]), reply[3] == 1
        for compiled, raw in zip(limits, reply[4:], strict=True):
            key = (compiled.scope, compiled.pick(call))
            state = _read(compiled.limit, raw)
            if state is None:
                self.mirror.pop(key, None)
            else:
                self.mirror[key] = state
        decision = stack.decide(call._replace(at_us=at), self.mirror, Clock(at))
        if (decision.verdict != "refused") != admitted:
            raise AssertionError(f"the script and the limiter disagree on a call at {at}: {reply[4:]}")
        self.clock.at(at)
        return Decided(decision, at, self.era, "", reply[2])

    async def _settle(self, keys: list[str], at_us: int, more: Units) -> None:
        whole, part = _split(more)
        try:
            await self._scripts["settle"](keys=[self.key("clock"), *keys], args=[self.era, at_us, whole, part])
        except (RedisError, OSError, TimeoutError):
            self.lose("away")


def connect(url: str, patience: float = PATIENCE_SECONDS) -> Redis:
    """A client that gives up after `patience` seconds: a call waits no longer for its count than for its answer."""
    return Redis.from_url(
        url,
        socket_timeout=patience,
        socket_connect_timeout=patience,
        max_connections=200,
        retry=None,
        health_check_interval=0,
        decode_responses=True,
    )


def _fields(compiled: Any, call: Call, at: int) -> list[Any]:
    """What the script must know of a limit: its kind and seven numbers."""
    limit = compiled.limit
    if isinstance(limit, Rate):
        period = limit.per_seconds * SECOND
        return [
            "rate",
            limit.calls,
            *divmod(period, limit.calls),
            *divmod((limit.burst - 1) * period, limit.calls),
            0,
            0,
        ]
    if isinstance(limit, Pace):
        step = divmod(limit.per_seconds * SECOND, limit.calls)
        return ["pace", limit.calls, *step, limit.max_wait_ms * 1000, 0, 0, 0]
    if isinstance(limit, Window):
        kind = "rolling" if limit.rolling else "window"
        return [kind, limit.calls, limit.per_seconds * SECOND, 0, 0, 0, 0, 0]
    cost = cost_of(limit, call)
    how = (2 if limit.when_spent == "refuse" else 0) + (1 if cost.settles else 0)
    return ["quota", *compiled.window(at), *_split(limit.units), how, *_split(cost.units)]


def _split(units: Units) -> tuple[int, int]:
    """Units as whole ones and millionths."""
    return divmod(int(Decimal(units) * MILLION), MILLION)


def _joined(whole: int, part: int) -> Units:
    return whole if not part else Decimal(whole) + Decimal(part) / MILLION


def _read(limit: Any, raw: str) -> Any:
    """A count as `core` keeps it, from what the script says."""
    if not raw:
        return None
    numbers = [int(word) for word in raw.split()]
    if isinstance(limit, Rate | Pace):
        return numbers[0] * limit.calls + numbers[1]
    if isinstance(limit, Quota):
        return numbers[0], _joined(numbers[1], numbers[2])
    return Instants(*numbers) if limit.rolling else (numbers[0], numbers[1])


def _write(pipe: Pipeline, key: str, compiled: Any, state: Any, *, now_us: int, spare_ms: int) -> None:
    """Write a count of `core` as the script keeps it, to be forgotten so long after it decides on nothing more."""
    limit = compiled.limit
    if isinstance(limit, Rate | Pace):
        instant, rest = divmod(state, limit.calls)
        if instant >= now_us:
            pipe.set(key, f"{instant} {rest}", px=math.ceil((instant - now_us) / 1000) + spare_ms)
    elif isinstance(limit, Quota):
        whole, part = _split(state[1])
        left = max(0, compiled.window(now_us)[1] - now_us) // 1000
        pipe.set(key, f"{state[0]} {whole} {part}", px=left + 86_400_000)
    elif limit.rolling:
        if state:
            pipe.rpush(key, *state)
            pipe.pexpire(key, limit.per_seconds * 1000 + spare_ms)
    else:
        pipe.set(key, f"{state[0]} {state[1]}", px=limit.per_seconds * 1000 + spare_ms)
