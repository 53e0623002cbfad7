"""A circuit breaker per back end: one that fails again and again is left alone for a while."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from calm_tariff.gateway.verdict.calls import Admitted


@dataclass(slots=True)
class Breaker:
    """Opens after `failures` in a row; then for `seconds` nobody asks; then one call may try.

    Instants are seconds of a monotonic clock. With `failures` 0 it never opens.
    """

    failures: int
    seconds: int
    in_a_row: int = 0
    open_until: float = 0.0
    trying: bool = False

    def wait(self, now: float) -> float:
        """Seconds until a call may be tried; 0 where one may be now."""
        if not self.failures or self.in_a_row < self.failures:
            return 0.0
        if now < self.open_until:
            return self.open_until - now
        return 1.0 if self.trying else 0.0

    def begin(self) -> None:
        """A call is on its way: while the breaker is half open, the only one."""
        if self.failures and self.in_a_row >= self.failures:
            self.trying = True

    def give_up(self) -> None:
        """What became of a call will not be known."""
        self.trying = False

    def end(self, well: bool, now: float) -> None:
        """What became of a call."""
        self.trying = False
        if well:
            self.in_a_row = 0
            return
        self.in_a_row += 1
        if self.failures and self.in_a_row >= self.failures:
            self.open_until = now + self.seconds


@dataclass(slots=True)
class Breakers:
    """The breaker of each back end, by version and environment, as its owner has set it now."""

    known: dict[tuple[int, str], Breaker] = field(default_factory=dict)

    def of(self, admitted: Admitted) -> Breaker:
        """The breaker of the back end that a call would ask."""
        route, key = admitted.place.route, (admitted.place.route.version_id, admitted.environment)
        settings, found = route.forwarding, self.known.get(key)
        if found is None or (found.failures, found.seconds) != (settings.breaker_failures, settings.breaker_seconds):
            found = self.known[key] = Breaker(settings.breaker_failures, settings.breaker_seconds)
        return found

    def resting(self, now: float) -> Iterator[str]:
        """The back ends that are left alone now, as version and environment."""
        return (f"{version}/{environment}" for (version, environment), b in self.known.items() if b.wait(now))
