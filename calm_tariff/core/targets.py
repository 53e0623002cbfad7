"""By when a request is to be answered: so many working days after it was made."""

from __future__ import annotations

from collections.abc import Collection
from datetime import timedelta
from zoneinfo import ZoneInfo

from calm_tariff.core.periods import day_start, local_day

MOST_DAYS = 60


def due(asked_us: int, days: int, where: ZoneInfo, working: Collection[int]) -> int:
    """The instant by which something asked at an instant is answered in time: the end of the `days`-th working day
    after the day it was asked. With 0 days that is the day itself, or the first working day from it on. `working` are
    the days of the week on which people work; 0 is Monday."""
    day, left = local_day(asked_us, where), days
    while left > 0 or day.weekday() not in working:
        day += timedelta(days=1)
        left -= day.weekday() in working
    return day_start(day + timedelta(days=1), where)


def later(due_us: int, asked_back_us: int, answered_us: int) -> int:
    """By when it is to be answered once a question that was asked back has its answer: what that took does not count,
    nor does any of it take from what was left."""
    return due_us + max(0, answered_us - asked_back_us)
