"""Local days, billing periods and quota windows (docs/arithmetic.md, sections 1 and 3).

Instants are integers, microseconds since the Unix epoch; dates are local to a time zone.
"""

from __future__ import annotations

from calendar import monthrange
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from functools import lru_cache
from typing import Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from calm_tariff.core.errors import Invalid

Every = Literal["minute", "hour", "day", "week", "month"]
Aligned = Literal["calendar", "subscription"]

SECOND = 1_000_000
MINUTE = 60 * SECOND
HOUR = 60 * MINUTE
DAY = 24 * HOUR
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


@dataclass(frozen=True, slots=True)
class Period:
    """A run of whole local days, `end` not included."""

    start: date
    end: date

    @property
    def days(self) -> int:
        """How many local days the period has."""
        return (self.end - self.start).days


@lru_cache(maxsize=64)
def zone(name: str) -> ZoneInfo:
    """The time zone of that IANA name. Raises `Invalid` for an unknown one."""
    try:
        return ZoneInfo(name)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise Invalid(f"{name!r} is not an IANA time zone", "time_zone") from None


def instant_of(moment: datetime) -> int:
    """Microseconds since the epoch of an aware datetime."""
    return (moment - _EPOCH) // timedelta(microseconds=1)


def instant_if_any(moment: datetime | None) -> int | None:
    """The same of a datetime where there is one; None where nothing bounds what is asked."""
    return None if moment is None else instant_of(moment)


def moment_of(instant: int, where: ZoneInfo | None = None) -> datetime:
    """The aware datetime of an instant, in UTC or in the given zone."""
    moment = _EPOCH + timedelta(microseconds=instant)
    return moment.astimezone(where) if where else moment


def local_instant(local: datetime, where: ZoneInfo) -> int:
    """The instant of a naive local time.

    A local time that does not exist moves forward by the gap; one that occurs twice means the first.
    """
    return instant_of(local.replace(tzinfo=where, fold=0))


@lru_cache(maxsize=4096)
def day_start(day: date, where: ZoneInfo) -> int:
    """The instant at which a local day begins."""
    return local_instant(datetime.combine(day, time()), where)


def local_day(instant: int, where: ZoneInfo) -> date:
    """The local date on which an instant falls."""
    return moment_of(instant, where).date()


def month_of(day: date) -> Period:
    """The calendar month that holds a day: the billing period."""
    first = day.replace(day=1)
    return Period(first, month_step(first, 1))


def month_starting(start: date) -> Period:
    """The billing month that starts on a day. Raises `Invalid` for a day that starts none."""
    if start.year > 9000:
        raise Invalid("lies further ahead than anything is charged", "period")
    period = month_of(start)
    if period.start != start:
        raise Invalid("a period starts on the first of a month", "period")
    return period


def period_before(period: Period) -> Period:
    """The billing period before another."""
    return month_of(month_step(period.start, -1))


def month_step(day: date, months: int) -> date:
    """The same day of month some months on, or that month's last day where there is none."""
    index = day.year * 12 + day.month - 1 + months
    year, month = divmod(index, 12)
    return date(year, month + 1, min(day.day, monthrange(year, month + 1)[1]))


def days_ending_in(start: int, end: int | None, period: Period, where: ZoneInfo) -> int:
    """How many of the period's local days end within [start, end).

    A day belongs to the segment in force when that local day ends, that is at the last instant
    before the next local midnight.
    """
    return _days_ended_before(end, period, where) - _days_ended_before(start, period, where)


def _days_ended_before(instant: int | None, period: Period, where: ZoneInfo) -> int:
    """How many of the period's days have their last instant before `instant` (absent: all)."""
    if instant is None:
        return period.days
    low, high = 0, period.days
    while low < high:
        middle = (low + high) // 2
        if day_start(period.start + timedelta(days=middle + 1), where) <= instant:
            low = middle + 1
        else:
            high = middle
    return low


def calendar_window(every: Every, instant: int, where: ZoneInfo) -> tuple[int, int]:
    """The quota window [start, end) of the local clock that holds an instant.

    Days start at local midnight, weeks on Monday, months on the 1st. Minutes and hours follow the
    local clock; a repeated hour is a window of its own.
    """
    moment = moment_of(instant, where)
    if every in ("minute", "hour"):
        return _clock_window(every, instant, moment, where)
    day = moment.date()
    if every == "day":
        first, after = day, day + timedelta(days=1)
    elif every == "week":
        first = day - timedelta(days=day.weekday())
        after = first + timedelta(days=7)
    else:
        month = month_of(day)
        first, after = month.start, month.end
    return day_start(first, where), day_start(after, where)


def _clock_window(every: Every, instant: int, moment: datetime, where: ZoneInfo) -> tuple[int, int]:
    length = MINUTE if every == "minute" else HOUR
    into = (moment.minute * MINUTE if every == "hour" else 0) + moment.second * SECOND + moment.microsecond
    start, end = instant - into, instant - into + length
    # A clock change inside the hour cuts it: each side of the change is a window of its own.
    offset = moment.utcoffset()
    if moment_of(start, where).utcoffset() != offset:
        start = _offset_change(start, instant, where)
    if moment_of(end - 1, where).utcoffset() != offset:
        end = _offset_change(instant, end - 1, where)
    return start, end


def _offset_change(before: int, after: int, where: ZoneInfo) -> int:
    """The first instant in (before, after] with the offset that holds at `after`."""
    offset = moment_of(after, where).utcoffset()
    while after - before > 1:
        middle = (before + after) // 2
        if moment_of(middle, where).utcoffset() == offset:
            after = middle
        else:
            before = middle
    return after


def subscription_window(every: Every, instant: int, start: int, where: ZoneInfo) -> tuple[int, int]:
    """The quota window [from, to) that holds an instant, stepped from the subscription's start.

    Minutes and hours are fixed lengths. Days, weeks and months step the local date and keep the
    local time of day, always counted from the original day. Raises `Invalid` before the start.
    """
    if instant < start:
        raise Invalid("a call lies before subscription_start_us", "at_us")
    if every in ("minute", "hour"):
        length = MINUTE if every == "minute" else HOUR
        begin = start + (instant - start) // length * length
        return begin, begin + length
    origin = moment_of(start, where).replace(tzinfo=None)
    now = moment_of(instant, where).replace(tzinfo=None)
    if every == "month":
        step = (now.year - origin.year) * 12 + now.month - origin.month
    else:
        step = (now.date() - origin.date()).days // (7 if every == "week" else 1)
    # The estimate by dates may be one step off around a clock change or a short month.
    step = max(step - 1, 0)
    while _stepped(every, origin, step + 1, start, where) <= instant:
        step += 1
    return _stepped(every, origin, step, start, where), _stepped(every, origin, step + 1, start, where)


def _stepped(every: Every, origin: datetime, step: int, start: int, where: ZoneInfo) -> int:
    if step == 0:
        return start
    if every == "month":
        local = datetime.combine(month_step(origin.date(), step), origin.time())
    else:
        local = origin + timedelta(days=step * (7 if every == "week" else 1))
    return local_instant(local, where)
