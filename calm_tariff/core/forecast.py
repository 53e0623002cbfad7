"""How an allowance will stand at its window's end (docs/arithmetic.md, section 4)."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction

from calm_tariff.core.periods import HOUR

WEEK_HOURS = 24 * 7
LOOK_BACK_WEEKS = 4
_PARTS = 12 * 10**6


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
    if first_call is None or now - first_call < WEEK_HOURS * HOUR:
        return _steady(used, units, start, end, now)
    # In whole numbers, because a page projects ten thousands of hours: a mean of up to four counts of up to six
    # places is a whole number of twelve-millionths, and an hour a whole number of microseconds.
    this_hour = now // HOUR * HOUR
    expected, limit = (int(n * _PARTS) * HOUR for n in (used, units))
    spent_at = now if expected >= limit else None
    means: dict[int, int] = {}
    for hour in range(this_hour, end, HOUR):
        of_week = hour % (WEEK_HOURS * HOUR)  # the last four of this hour of the week are the same for all to come
        if of_week not in means:
            means[of_week] = _mean_of_hour(hour, hourly, this_hour, first_call)
        expected += means[of_week] * (min(hour + HOUR, end) - max(hour, now))
        if spent_at is None and expected >= limit:
            spent_at = max(hour, now)
    return Projection(Fraction(expected, _PARTS * HOUR), spent_at)


def expected_between(
    used: Decimal,
    window: tuple[int, int],
    now: int,
    hourly: Mapping[int, Decimal],
    first_call: int | None,
) -> Callable[[int, int], Fraction]:
    """How many units are expected in a stretch of what remains of a window [start, end) of which so much is used, as
    `projected` expects them; of what is past, none."""

    def until(instant: int) -> Fraction:
        stretch = (window[0], min(max(instant, now), window[1]))
        return projected(used, Decimal(0), stretch, now, hourly, first_call).at_end

    return lambda start, end: until(end) - until(start)


def _steady(used: Decimal, units: Decimal, start: int, end: int, now: int) -> Projection:
    """The use so far going on as it was."""
    so_far, limit = Fraction(used), Fraction(units)
    pace = so_far / max(now - start, 1)
    at_end = so_far + pace * max(0, end - now)
    if so_far >= limit:
        return Projection(at_end, now)
    if at_end < limit:
        return Projection(at_end, None)
    crossed = now + (limit - so_far) / pace
    return Projection(at_end, max(-(-crossed // HOUR) * HOUR - HOUR, now))


def _mean_of_hour(hour: int, hourly: Mapping[int, Decimal], this_hour: int, first_call: int) -> int:
    """The mean of an hour of the week, in twelve-millionths of a unit."""
    week = WEEK_HOURS * HOUR
    back = -(-(hour - this_hour) // week) or 1
    same = [hour - week * (back + step) for step in range(LOOK_BACK_WEEKS)]
    known = [h for h in same if h >= first_call // HOUR * HOUR and h < this_hour]
    if not known:
        return 0
    return int(sum((hourly[h] for h in known if h in hourly), Decimal(0)) * _PARTS) // len(known)
