"""What would have let a refused call in: the least change of each limit that refused it, and other terms."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

from calm_tariff.core.limits import Limit, Pace, Quota, Rate, Units, Window
from calm_tariff.core.periods import SECOND


@dataclass(frozen=True, slots=True)
class Refusal:
    """A limit that refused: `used` of a quota or window at the time, and the call's `cost`. `too_soon_us` is how
    much later the call would have been let in, None if never."""

    limit: Limit
    used: Units
    cost: Units
    too_soon_us: int | None


def least_change(refusal: Refusal) -> Limit:
    """The limit with the one number raised just so far that the call would have been let in."""
    limit = refusal.limit
    if isinstance(limit, Quota):
        return replace(limit, units=refusal.used + max(refusal.cost, 1))
    if isinstance(limit, Window):
        return replace(limit, calls=int(refusal.used) + 1)
    if isinstance(limit, Rate):
        # A bucket that refuses holds less than one call but not less than none.
        return replace(limit, burst=limit.burst + 1)
    late = (refusal.too_soon_us or 0) + limit.max_wait_ms * 1000
    return replace(limit, max_wait_ms=-(-late // 1000))


def would_have_let_in(refusals: Iterable[Refusal], terms: Sequence[Limit]) -> bool:
    """Whether other terms would have let the call in, had the same calls been made under them.

    Each limit that refused must be at least as wide there as its least change, or not be there at all.
    """
    by_name = {limit.name: limit for limit in terms}
    for refusal in refusals:
        other = by_name.get(refusal.limit.name)
        if other is not None and not _as_wide(other, least_change(refusal)):
            return False
    return True


def _as_wide(other: Limit, needed: Limit) -> bool:
    if other.kind != needed.kind or other.counted_per != needed.counted_per:
        return False
    if isinstance(other, Quota) and isinstance(needed, Quota):
        same = other.every == needed.every and other.meter == needed.meter
        return other.when_spent != "refuse" or (same and other.units >= needed.units)
    if isinstance(other, Window) and isinstance(needed, Window):
        return other.per_seconds == needed.per_seconds and other.calls >= needed.calls
    if isinstance(other, Rate) and isinstance(needed, Rate):
        return other.burst >= needed.burst and _pace(other) >= _pace(needed)
    if isinstance(other, Pace) and isinstance(needed, Pace):
        return other.max_wait_ms >= needed.max_wait_ms and _pace(other) >= _pace(needed)
    return False


def _pace(limit: Rate | Pace) -> Fraction:
    return Fraction(limit.calls, limit.per_seconds * SECOND)
