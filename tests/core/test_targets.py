"""By when a request is to be answered."""

from __future__ import annotations

from datetime import date, datetime
from zoneinfo import ZoneInfo

import pytest

from calm_tariff.core.periods import HOUR, day_start, instant_of
from calm_tariff.core.targets import due, later

LISBON = ZoneInfo("Europe/Lisbon")
WEEK = range(5)


def at(text: str) -> int:
    return instant_of(datetime.fromisoformat(text).replace(tzinfo=LISBON))


@pytest.mark.parametrize(
    ("asked", "days", "last_day"),
    [
        ("2026-11-23T10:00", 2, date(2026, 11, 25)),  # Monday: until Wednesday's end
        ("2026-11-27T23:59", 1, date(2026, 11, 30)),  # Friday: Monday
        ("2026-11-28T10:00", 1, date(2026, 11, 30)),  # Saturday: Monday is its first working day
        ("2026-11-28T10:00", 0, date(2026, 11, 30)),
        ("2026-11-27T00:00", 0, date(2026, 11, 27)),
        ("2026-10-23T10:00", 2, date(2026, 10, 27)),  # over the night in which the clock is put back
    ],
)
def test_it_is_due_at_the_end_of_a_working_day(asked: str, days: int, last_day: date) -> None:
    assert due(at(asked), days, LISBON, WEEK) == day_start(last_day.fromordinal(last_day.toordinal() + 1), LISBON)


def test_other_working_days_make_another_target() -> None:
    sundays = due(at("2026-11-27T10:00"), 1, LISBON, working={6})
    assert sundays == day_start(date(2026, 11, 30), LISBON)


def test_what_an_answer_took_does_not_count() -> None:
    end = due(at("2026-11-23T10:00"), 2, LISBON, WEEK)
    asked_back, answered = at("2026-11-24T10:00"), at("2026-11-24T15:00")
    assert later(end, asked_back, answered) == end + 5 * HOUR
    assert later(end, answered, asked_back) == end  # a clock that steps back takes nothing away
