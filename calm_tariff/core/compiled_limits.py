"""Limits ready to decide: what each kind makes of a count (docs/arithmetic.md, section 1).

A compiled limit says what a count would become (`step`) and when a refused call would be let in (`opens`); it changes
nothing of its own.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from operator import itemgetter
from typing import Any
from zoneinfo import ZoneInfo

from calm_tariff.core.limits import (
    COUNTED_PER,
    Call,
    Limit,
    Pace,
    Quota,
    Rate,
    TrialQuota,
    Units,
    Window,
    cost_of,
    subject_of,
)
from calm_tariff.core.periods import SECOND, calendar_window, subscription_window

REFUSED = -1
# After every instant that will be met (the year 2223), and small enough to be exact wherever counts are kept.
FAR = 8_000_000_000_000_000
# What a limit makes of a count: the wait in µs or REFUSED, the count with the call in it, what is then left.
Step = tuple[int, Any, Units | None]
_NO: Step = (REFUSED, None, None)


class CompiledLimit:
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


class _RateLimit(CompiledLimit):
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


class _FixedWindow(CompiledLimit):
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


class _RollingWindow(CompiledLimit):
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


class _Pacing(CompiledLimit):
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


class _Allowance(CompiledLimit):
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


def compile_limit(limit: Limit, scope: str, where: ZoneInfo, origin: int) -> CompiledLimit:
    """The limit ready to decide. `scope` tells its counts from those of other limits."""
    if isinstance(limit, Rate):
        return _RateLimit(limit, scope)
    if isinstance(limit, Window):
        return _RollingWindow(limit, scope) if limit.rolling else _FixedWindow(limit, scope)
    if isinstance(limit, Pace):
        return _Pacing(limit, scope)
    return (_TrialAllowance if isinstance(limit, TrialQuota) else _Allowance)(limit, scope, where, origin)
