"""How old what is open is: by days after the day it was due."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Literal, get_args

Age = Literal["not due", "0-30", "31-60", "61-90", "older"]
AGES: tuple[Age, ...] = get_args(Age)
# The last day after the due date of each age; the oldest has none.
_LAST_DAYS = {"not due": -1, "0-30": 30, "31-60": 60, "61-90": 90}


def due_from(age: Age, today: date) -> date | None:
    """The first due date of what is of an age today; None where there is none."""
    last = _LAST_DAYS.get(age)
    return None if last is None else today - timedelta(days=last)


def age_of(due: date, today: date) -> Age:
    """The age of what was due on a day: of 0 to 30 days where that is today, and `not due` before."""
    return next(age for age in AGES if (first := due_from(age, today)) is None or due >= first)
