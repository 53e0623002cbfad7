"""When work that failed is tried again: after pauses that grow, apart from others that failed with it."""

from __future__ import annotations

from datetime import timedelta

FIRST = timedelta(seconds=2)
LONGEST = timedelta(hours=1)


def pause(attempts: int, chance: float) -> timedelta:
    """How long to wait after so many attempts: twice as long each time, never longer than an hour, and up to a quarter
    more by `chance`, which is between 0 and 1."""
    doubled: int = 1 << min(attempts - 1, 20)
    return min(FIRST * doubled, LONGEST) * (1 + chance / 4)
