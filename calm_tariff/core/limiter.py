"""The limiter: all or nothing over the limits that apply (docs/arithmetic.md, section 1).

A `Stack` holds the compiled limits of one subscription. Counts live in a mapping that the caller
owns, keyed by (scope, subject), so that several stacks share the counts they have in common. A count
becomes what a limit would make of it only once every limit has agreed.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, MutableMapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo

from calm_tariff.core.compiled_limits import CompiledLimit, compile_limit
from calm_tariff.core.limits import Call, Costs, Limit, Units, Verdict

Counts = MutableMapping[tuple[str, str], Any]
# A limit, the name of its count, the count, and what the limit makes of it.
_Read = tuple[CompiledLimit, tuple[str, str], Any, int, Any, Units | None]
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


@dataclass(slots=True)
class Stack:
    """The limits of one subscription in the order they are tested, compiled.

    `scopes` names each limit's count space: limits of two stacks with the same scope share counts.
    """

    limits: Sequence[Limit]
    where: ZoneInfo
    origin: int
    scopes: Sequence[str] | None = None
    compiled: tuple[CompiledLimit, ...] = ()
    _by_operation: dict[tuple[str, Costs | None], tuple[CompiledLimit, ...]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        scopes = self.scopes or [f"{place}" for place in range(len(self.limits))]
        self.compiled = tuple(
            compile_limit(limit, scope, self.where, self.origin)
            for limit, scope in zip(self.limits, scopes, strict=True)
        )

    def applying(self, operation: str, costs: Costs | None = None) -> tuple[CompiledLimit, ...]:
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
        read: list[_Read] = []
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

    def _refusal(self, read: list[_Read], t: int, call: Call) -> Decision:
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

    def quotas(self, call: Call, meters: Collection[str | None]) -> list[CompiledLimit]:
        """The quotas of some meters that a call takes from."""
        applying = self.applying(call.operation, call.costs)
        return [limit for limit in applying if limit.is_quota and limit.meter in meters]
