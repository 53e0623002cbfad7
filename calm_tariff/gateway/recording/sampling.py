"""Refusals of callers nobody knows, or who need no credential: the first ones are recorded, a flood of them is counted.

What a caller without a good credential sends costs it nothing; a row for each would let anybody fill the disk. No call
of a known caller is ever left out, and none that was let through.
"""

from __future__ import annotations

from dataclasses import dataclass

AT_ONCE = 200
PER_SECOND = 5


@dataclass(slots=True)
class Sampling:
    """Takes up to `AT_ONCE`, and `PER_SECOND` more with every second. `left_out` counts the others since the start,
    `since` those since the last one that was taken."""

    room: float = AT_ONCE
    at: float = 0.0
    left_out: int = 0
    since: int = 0

    def takes(self, now: float) -> bool:
        """Whether one more is recorded, at a second of any clock that only goes forward."""
        self.room = min(AT_ONCE, self.room + max(0.0, now - self.at) * PER_SECOND)
        self.at = now
        if self.room < 1:
            self.left_out += 1
            self.since += 1
            return False
        self.room -= 1
        return True

    def told(self) -> str:
        """What a record says of those left out before it; empty where there are none."""
        missed, self.since = self.since, 0
        return f"{missed:,} refusals of unknown callers before this one were counted and not recorded" if missed else ""
