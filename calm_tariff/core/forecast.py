"""How an allowance will stand at its window's end (computation.md, section 4)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction

from calm_tariff.core.periods import HOUR

WEEK_HOURS = 24 * 7
LOOK_BACK_WEEKS = 4


@dataclass(frozen=True, slots=True)
class Projection:
    """Units expected at the window's end, and the start of the hour in which the quota is crossed."""

    at_end: Fraction
    spent_at: int | None


def projected(
    used: Decimal,
    units: Decimal,
    window: tuple[int, int],
    now: int,
    hourly: Mapping[int, Decimal],
    first_call: int | None,
) -> Projection:
    """Project an allowance to the end of its window [start, end).

    `hourly` maps the start of each past hour to the units counted in it; `first_call` is the start
    of the history. Each remaining hour is expected to be like the mean of the same hour of the
    week over the last four weeks; with under a week of history, used ÷ elapsed goes on.
    """
    start, end = window
    this_hour = now // HOUR * HOUR
    young = first_call is None or now - first_call < WEEK_HOURS * HOUR
    elapsed = Fraction(max(now - start, 1), HOUR)
    steady = Fraction(used) / elapsed
    expected = Fraction(used)
    limit = Fraction(units)
    spent_at = now if expected >= limit else None
    means: dict[int, Fraction] = {}
    hour = this_hour
    while hour < end:
        left = Fraction(min(hour + HOUR, end) - max(hour, now), HOUR)
        mean = steady
        if not young:
            of_week = hour % (WEEK_HOURS * HOUR)  # the last four of this hour of the week are the same for all to come
            if of_week not in means:
                means[of_week] = _mean_of_hour(hour, hourly, this_hour, first_call or 0)
            mean = means[of_week]
        expected += mean * left
        if spent_at is None and expected >= limit:
            spent_at = max(hour, now)
        hour += HOUR
    return Projection(expected, spent_at)


def _mean_of_hour(hour: int, hourly: Mapping[int, Decimal], this_hour: int, first_call: int) -> Fraction:
    week = WEEK_HOURS * HOUR
    back = -(-(hour - this_hour) // week) or 1
    same = [hour - week * (back + step) for step in range(LOOK_BACK_WEEKS)]
    known = [h for h in same if h >= first_call // HOUR * HOUR and h < this_hour]
    if not known:
        return Fraction(0)
    return sum((Fraction(hourly.get(h, Decimal(0))) for h in known), Fraction(0)) / len(known)
