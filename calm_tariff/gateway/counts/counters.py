"""Where counts live: the interface of a counter store, and the store of one gateway alone."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple, Protocol

from calm_tariff.core.limiter import Clock, Decision, Stack
from calm_tariff.core.limits import Call, Units


class CountersAway(Exception):
    """The counter store does not answer, and the installation would rather refuse than count alone."""


class Decided(NamedTuple):
    """A decision with the instant it was made at, by the counter store's own clock.

    `era` changes whenever counts are begun anew from recorded usage; `remark` says what was out of the
    ordinary; `order` is the decision's place among those made at the same instant.
    """

    decision: Decision
    at_us: int
    era: str = ""
    remark: str = ""
    order: int = 0


class Counters(Protocol):
    """A counter store."""

    era: str

    @property
    def state(self) -> str:
        """How the store stands, in words, for the health page."""

    async def decide(self, stack: Stack, call: Call) -> Decided:
        """Decide on a call, all or nothing. Raises `CountersAway`."""

    def settle(self, stack: Stack, call: Call, truth: Mapping[str | None, Units], era: str) -> None:
        """Put what a call truly came to in place of what it reserved, by the quotas' meters."""


@dataclass(slots=True)
class LocalCounters:
    """Counts in the gateway's own memory: one thread, so a decision is whole by itself."""

    counts: dict[tuple[str, str], Any] = field(default_factory=dict)
    clock: Clock = field(default_factory=Clock)
    state: str = "in this gateway's memory"
    era: str = ""

    async def decide(self, stack: Stack, call: Call) -> Decided:
        """Decide by the counts in memory."""
        decision = stack.decide(call, self.counts, self.clock)
        return Decided(decision, self.clock.last)

    def settle(self, stack: Stack, call: Call, truth: Mapping[str | None, Units], era: str) -> None:
        """Settle the counts in memory."""
        stack.settle(call, truth, self.counts)
