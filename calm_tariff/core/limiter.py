"""The limiter: all or nothing over the limits that apply (docs/arithmetic.md, section 1).

A `Stack` holds the compiled limits of one subscription. Counts live in a mapping that the caller
owns, keyed by (scope, subject), so that several stacks share the counts they have in common. Each
compiled limit says what a count would become (`step`); it becomes so only once every limit has agreed.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Collection, Mapping, MutableMapping, Sequence
from dataclasses import dataclass, field
from operator import itemgetter
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo

from calm_tariff.core.limits import (
    COUNTED_PER,
    Call,
    Costs,
    Limit,
    Pace,
    Quota,
    Rate,
    TrialQuota,
    Units,
    Verdict,
    Window,
    cost_of,
    subject_of,
)
from calm_tariff.core.periods import SECOND, calendar_window, subscription_window

Counts = MutableMapping[tuple[str, str], Any]
REFUSED = -1
# After every instant that will be met (the year 2223), and small enough to be exact wherever counts are kept.
FAR = 8_000_000_000_000_000
# What a limit makes of a count: the wait in µs or REFUSED, the count with the call in it, what is then left.
Step = tuple[int, Any, Units | None]
_NO: Step = (REFUSED, None, None)
_quick: Any = tuple.__new__  # four checks a call: half the price of Check(...)


@dataclass(slots=True)
class Clock:
    """The last instant seen. A clock that steps back is held there."""

    last: int = 0

    def at(self, instant: int) -> int:
        """The instant to decide at: never before one already seen."""
        if instant > self.last:
            self.last = instant
        return self.last


class Check(NamedTuple):
    """What one limit said of one call.

    `left` is its remaining count after the verdict (pace: None); `state` its count then, as the kind
    keeps it. Of a quota, `ends_us` is the window's end and `cost` what the call takes from it. `scope` and
    `subject` name the count.
    """

    limit: Limit
    scope: str
    subject: str
    wait_us: int
    refused: bool
    left: Units | None
    state: Any
    ends_us: int | None = None
    cost: Units = 0


class Decision(NamedTuple):
    """The verdict on one call. `by` names the refusing limit; `retry_after_us` only where refused."""

    verdict: Verdict
    by: str | None
    wait_us: int
    retry_after_us: int | None
    checks: tuple[Check, ...]

    @property
    def remaining(self) -> dict[str, Units]:
        """What is left of every limit that applied, by name. Pacing has nothing left to speak of."""
        return {c.limit.name: c.left for c in self.checks if c.left is not None}


class _Compiled:
    """A limit with its constants worked out. `state` is whatever the kind stores per subject."""

    __slots__ = ("end", "limit", "pick", "scope")
    limit: Limit
    end: int | None
    # The meter of a quota; of everything else, and of a quota that counts calls, None.
    meter: str | None = None
    is_quota = False
    # Whether the count is a thing that grows, and is changed only by `commit`.
    grows = False

    def __init__(self, limit: Limit, scope: str) -> None:
        self.limit = limit
        self.scope = scope
        self.end = None
        self.pick = _picker(limit)

    def step(self, state: Any, t: int, call: Call) -> Step:
        """What the call would need, and what it would make of the count. Changes nothing."""
        raise NotImplementedError

    def current(self, state: Any, t: int) -> Any:
        """The count as far as it still says something at `t`."""
        return state

    def cost(self, call: Call) -> Units:
        """What the call takes from a quota; nothing is known of it where the limit counts calls anyway."""
        return 0

    def test(self, state: Any, t: int, call: Call) -> int:
        """The wait in µs the call would need, or REFUSED."""
        return self.step(state, t, call)[0]

    def commit(self, after: Any, t: int) -> Any:
        """The count to keep once every limit has agreed."""
        return after

    def take(self, state: Any, t: int, units: Units) -> tuple[Any, Units | None]:
        """The state once the call is counted, and what is then left."""
        raise NotImplementedError

    def left(self, state: Any, t: int) -> Units | None:
        """What remains at `t`."""
        raise NotImplementedError

    def opens(self, state: Any, t: int, call: Call) -> int | None:
        """The earliest instant from `t` on at which the call would be admitted; None if never."""
        raise NotImplementedError

    def stale(self, state: Any, t: int) -> bool:
        """Whether the count says no more at `t` than none would, and may be forgotten."""
        raise NotImplementedError


class _RateLimit(_Compiled):
    __slots__ = ("calls", "full", "most", "period", "slack")

    def __init__(self, limit: Rate, scope: str) -> None:
        super().__init__(limit, scope)
        self.calls = limit.calls
        self.period = limit.per_seconds * SECOND
        self.full = limit.burst * self.period
        self.slack = self.full - self.period
        self.most = limit.burst - 1

    def step(self, state: Any, t: int, call: Call) -> Step:
        n = t * self.calls
        if state is None or state <= n:
            return (0, n + self.period, self.most) if self.slack >= 0 else _NO
        room = self.slack - state + n
        return (0, state + self.period, room // self.period) if room >= 0 else _NO

    def take(self, state: Any, t: int, units: Units) -> tuple[Any, Units | None]:
        n = t * self.calls
        tat = (n if state is None or state < n else state) + self.period
        return tat, (self.full - tat + n) // self.period

    def left(self, state: Any, t: int) -> Units:
        ahead = 0 if state is None else state - t * self.calls
        return (self.full - ahead if ahead > 0 else self.full) // self.period

    def stale(self, state: Any, t: int) -> bool:
        return bool(state <= t * self.calls)

    def opens(self, state: Any, t: int, call: Call) -> int | None:
        if self.slack < 0:
            return None
        return t if state is None else max(t, -((self.slack - state) // self.calls))


class _FixedWindow(_Compiled):
    __slots__ = ("calls", "period")

    def __init__(self, limit: Window, scope: str) -> None:
        super().__init__(limit, scope)
        self.calls = limit.calls
        self.period = limit.per_seconds * SECOND

    def step(self, state: Any, t: int, call: Call) -> Step:
        k = t // self.period
        used = 1 if state is None or state[0] != k else state[1] + 1
        return (0, (k, used), self.calls - used) if used <= self.calls else _NO

    def take(self, state: Any, t: int, units: Units) -> tuple[Any, Units | None]:
        k = t // self.period
        used = 1 if state is None or state[0] != k else state[1] + 1
        return (k, used), self.calls - used

    def left(self, state: Any, t: int) -> Units:
        return self.calls - (0 if state is None or state[0] != t // self.period else int(state[1]))

    def stale(self, state: Any, t: int) -> bool:
        return bool(state[0] < t // self.period)

    def opens(self, state: Any, t: int, call: Call) -> int | None:
        if self.test(state, t, call) != REFUSED:
            return t
        return (t // self.period + 1) * self.period if self.calls >= 1 else None


class _RollingWindow(_Compiled):
    """The state is a deque of the counted instants still inside the window."""

    __slots__ = ("calls", "period")
    grows = True

    def __init__(self, limit: Window, scope: str) -> None:
        super().__init__(limit, scope)
        self.calls = limit.calls
        self.period = limit.per_seconds * SECOND

    def _used(self, state: Any, t: int) -> int:
        if state is None:
            return 0
        edge = t - self.period
        while state and state[0] <= edge:
            state.popleft()
        return len(state)

    def step(self, state: Any, t: int, call: Call) -> Step:
        left = self.calls - self._used(state, t) - 1
        return (0, state, left) if left >= 0 else _NO

    def commit(self, after: Any, t: int) -> Any:
        after = deque() if after is None else after
        after.append(t)
        return after

    def take(self, state: Any, t: int, units: Units) -> tuple[Any, Units | None]:
        state = deque() if state is None else state
        state.append(t)
        return state, self.calls - len(state)

    def left(self, state: Any, t: int) -> Units:
        return self.calls - self._used(state, t)

    def stale(self, state: Any, t: int) -> bool:
        return self._used(state, t) == 0

    def opens(self, state: Any, t: int, call: Call) -> int | None:
        used = self._used(state, t)
        if used < self.calls:
            return t
        return int(state[used - self.calls]) + self.period if self.calls >= 1 else None


class _Pacing(_Compiled):
    __slots__ = ("calls", "patience", "period")

    def __init__(self, limit: Pace, scope: str) -> None:
        super().__init__(limit, scope)
        self.calls = limit.calls
        self.period = limit.per_seconds * SECOND
        self.patience = limit.max_wait_ms * 1000 * limit.calls

    def step(self, state: Any, t: int, call: Call) -> Step:
        n = t * self.calls
        if state is None or state <= n:
            return 0, n + self.period, None
        wait = state - n
        return (-(-wait // self.calls), state + self.period, None) if wait <= self.patience else _NO

    def take(self, state: Any, t: int, units: Units) -> tuple[Any, Units | None]:
        n = t * self.calls
        return (n if state is None or state < n else state) + self.period, None

    def left(self, state: Any, t: int) -> None:
        return None

    def stale(self, state: Any, t: int) -> bool:
        return bool(state <= t * self.calls)

    def opens(self, state: Any, t: int, call: Call) -> int | None:
        return t if state is None else max(t, -((self.patience - state) // self.calls))


class _Allowance(_Compiled):
    """The state is (window start, used). Window bounds are worked out once and kept."""

    __slots__ = ("begin", "firm", "last", "meter", "origin", "units", "where")
    limit: Quota
    is_quota = True

    def __init__(self, limit: Quota, scope: str, where: ZoneInfo, origin: int) -> None:
        super().__init__(limit, scope)
        self.meter = limit.meter
        self.where = where
        self.origin = origin
        self.units = limit.units
        self.firm = limit.when_spent == "refuse"
        self.begin, self.last = 0, 0

    def window(self, t: int) -> tuple[int, int]:
        """The window [start, end) that holds `t`."""
        if not self.begin <= t < self.last:
            if self.limit.aligned == "calendar":
                self.begin, self.last = calendar_window(self.limit.every, t, self.where)
            else:
                self.begin, self.last = subscription_window(self.limit.every, t, self.origin, self.where)
            self.end = self.last
        return self.begin, self.last

    def used(self, state: Any, t: int) -> Units:
        """Units counted so far in the window that holds `t`."""
        if not self.begin <= t < self.last:
            self.window(t)
        return 0 if state is None or state[0] != self.begin else state[1]

    def step(self, state: Any, t: int, call: Call) -> Step:
        if not self.begin <= t < self.last:
            self.window(t)
        before = 0 if state is None or state[0] != self.begin else state[1]
        units, settles = (call.units, call.settles) if call.costs is None else call.costs.of[self.meter]
        used = before + units
        if self.firm and (before >= self.units if settles else used > self.units):
            return _NO
        return 0, (self.begin, used), self.units - used if used < self.units else 0

    def current(self, state: Any, t: int) -> Any:
        return None if state is None or state[0] != self.window(t)[0] else state

    def cost(self, call: Call) -> Units:
        return cost_of(self.limit, call).units

    def take(self, state: Any, t: int, units: Units) -> tuple[Any, Units | None]:
        used = self.used(state, t) + units
        return (self.begin, used), self.units - used if used < self.units else 0

    def left(self, state: Any, t: int) -> Units:
        left = self.units - self.used(state, t)
        return left if left > 0 else 0

    def stale(self, state: Any, t: int) -> bool:
        return bool(state[0] < self.window(t)[0])

    def opens(self, state: Any, t: int, call: Call) -> int | None:
        if self.test(state, t, call) != REFUSED:
            return t
        units, settles = cost_of(self.limit, call)
        return self.window(t)[1] if settles or units <= self.units else None


class _TrialAllowance(_Allowance):
    """One window, from before the trial until after it."""

    __slots__ = ()

    def __init__(self, limit: Quota, scope: str, where: ZoneInfo, origin: int) -> None:
        super().__init__(limit, scope, where, origin)
        self.begin, self.end = 0, None
        self.last = FAR

    def window(self, t: int) -> tuple[int, int]:
        return 0, FAR


def _picker(limit: Limit) -> Callable[[Call], str]:
    """A function that finds whose count a call adds to; the fast form of `limits.subject_of`."""
    per = limit.counted_per
    if per == "everyone":
        return lambda call: ""
    if per in COUNTED_PER:
        return itemgetter(Call._fields.index(per))  # a tuple by its place is half the price of its name
    return lambda call: subject_of(limit, call)


def compile_limit(limit: Limit, scope: str, where: ZoneInfo, origin: int) -> _Compiled:
    """The limit ready to decide. `scope` tells its counts from those of other limits."""
    if isinstance(limit, Rate):
        return _RateLimit(limit, scope)
    if isinstance(limit, Window):
        return _RollingWindow(limit, scope) if limit.rolling else _FixedWindow(limit, scope)
    if isinstance(limit, Pace):
        return _Pacing(limit, scope)
    return (_TrialAllowance if isinstance(limit, TrialQuota) else _Allowance)(limit, scope, where, origin)


@dataclass(slots=True)
class Stack:
    """The limits of one subscription in the order they are tested, compiled.

    `scopes` names each limit's count space: limits of two stacks with the same scope share counts.
    """

    limits: Sequence[Limit]
    where: ZoneInfo
    origin: int
    scopes: Sequence[str] | None = None
    compiled: tuple[_Compiled, ...] = ()
    _by_operation: dict[tuple[str, Costs | None], tuple[_Compiled, ...]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        scopes = self.scopes or [f"{place}" for place in range(len(self.limits))]
        self.compiled = tuple(
            compile_limit(limit, scope, self.where, self.origin)
            for limit, scope in zip(self.limits, scopes, strict=True)
        )

    def applying(self, operation: str, costs: Costs | None = None) -> tuple[_Compiled, ...]:
        """The compiled limits that apply to calls on an operation, in order; with `costs`, none whose meter does
        not count them."""
        found = self._by_operation.get((operation, costs))
        if found is None:
            found = tuple(
                c
                for c in self.compiled
                if (c.limit.applies_to is None or operation in c.limit.applies_to)
                and (costs is None or c.meter is None or c.meter in costs.of)
            )
            self._by_operation[operation, costs] = found
        return found

    def decide(self, call: Call, counts: Counts, clock: Clock) -> Decision:
        """Test every limit that applies, then consume from all or from none."""
        t = call[0]
        if t > clock.last:
            clock.last = t
        else:
            t = clock.last
        limits = self._by_operation.get((call.operation, call.costs))
        if limits is None:
            limits = self.applying(call.operation, call.costs)
        wait = 0
        refused = False
        read = []
        for limit in limits:
            key = (limit.scope, limit.pick(call))
            state = counts.get(key)
            needs, after, left = limit.step(state, t, call)
            if needs:
                if needs < 0:
                    refused = True
                elif needs > wait:
                    wait = needs
            read.append((limit, key, state, needs, after, left))
        if refused:
            return self._refusal(read, t, call)
        checks = []
        for limit, key, _, needs, after, left in read:
            if limit.grows:
                after = limit.commit(after, t)
            counts[key] = after
            cost = limit.cost(call) if limit.is_quota else 0
            checks.append(_quick(Check, (limit.limit, *key, needs, False, left, after, limit.end, cost)))
        decision: Decision = _quick(Decision, ("held" if wait else "served", None, wait, None, tuple(checks)))
        return decision

    def _refusal(self, read: list[tuple[_Compiled, Any, Any, int, Any, Units | None]], t: int, call: Call) -> Decision:
        checks = []
        by: str | None = None
        opens: int | None = t
        for limit, key, state, needs, _, _ in read:
            if needs < 0 and by is None:
                by = limit.limit.name
            when = limit.opens(state, t, call)
            opens = None if when is None or opens is None else max(opens, when)
            left, state = limit.left(state, t), limit.current(state, t)
            checks.append(
                Check(
                    limit=limit.limit,
                    scope=key[0],
                    subject=key[1],
                    wait_us=max(needs, 0),
                    refused=needs < 0,
                    left=left,
                    state=state,
                    ends_us=limit.end,
                    cost=limit.cost(call),
                )
            )
        return Decision("refused", by, 0, None if opens is None else opens - t, tuple(checks))

    def settle(self, call: Call, truth: Mapping[str | None, Units], counts: Counts) -> None:
        """Put what a call truly came to in place of what it reserved, by the quotas' meters, in the window it was
        reserved in. A window that has meanwhile ended keeps nothing to correct.
        """
        for limit in self.quotas(call, truth):
            key = (limit.scope, limit.pick(call))
            difference = truth[limit.meter] - limit.cost(call)
            state = counts.get(key)
            if difference and state is not None and state[0] <= call.at_us:
                counts[key] = (state[0], state[1] + difference)

    def quotas(self, call: Call, meters: Collection[str | None]) -> list[_Compiled]:
        """The quotas of some meters that a call takes from."""
        applying = self.applying(call.operation, call.costs)
        return [limit for limit in applying if limit.is_quota and limit.meter in meters]
