"""The local calendar, over every change of its clocks."""

import itertools
from datetime import UTC, date, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.errors import Invalid
from calm_tariff.core.periods import (
    HOUR,
    MINUTE,
    SECOND,
    calendar_window,
    instant_of,
    moment_of,
    subscription_window,
    zone,
)

LISBON = zone("Europe/Lisbon")


def local(text: str) -> int:
    return instant_of(datetime.fromisoformat(text).replace(tzinfo=LISBON))


def test_local_days_and_hours_follow_clock_changes() -> None:
    start, end = calendar_window("day", local("2026-10-25T12:00"), LISBON)
    assert end - start == 25 * HOUR
    start, end = calendar_window("day", local("2026-03-29T12:00"), LISBON)
    assert end - start == 23 * HOUR
    # 01:30 comes twice on 25 October: each hour is a window of its own.
    first = instant_of(datetime(2026, 10, 25, 0, 30, tzinfo=UTC))
    assert calendar_window("hour", first, LISBON) == (first - 30 * MINUTE, first + 30 * MINUTE)
    assert calendar_window("hour", first + HOUR, LISBON) == (first + 30 * MINUTE, first + 90 * MINUTE)
    # In a zone whose clock moves by half an hour, the change cuts the hour.
    howe = zone("Australia/Lord_Howe")
    change = instant_of(datetime(2026, 10, 3, 15, 30, tzinfo=UTC))
    assert calendar_window("hour", change - SECOND, howe)[1] == change


@given(st.integers(0, 500), st.sampled_from(["minute", "hour", "day", "week", "month"]), st.integers(0, 86_399))
def test_quota_windows_hold_their_instant_and_join_without_gap(days: int, every, seconds: int) -> None:
    begin = local("2026-01-31T01:30")
    at = begin + (days * 86_400 + seconds) * SECOND
    for start, end, after in (
        (*calendar_window(every, at, LISBON), lambda t: calendar_window(every, t, LISBON)),
        (*subscription_window(every, at, begin, LISBON), lambda t: subscription_window(every, t, begin, LISBON)),
    ):
        assert start <= at < end
        assert after(end)[0] == end


@pytest.mark.parametrize(
    ("name", "change"),
    [
        ("Australia/Lord_Howe", datetime(2026, 10, 3, 15, 30, tzinfo=UTC)),
        ("Australia/Lord_Howe", datetime(2026, 4, 4, 15, tzinfo=UTC)),
        ("Asia/Kathmandu", datetime(2026, 5, 5, 5, 15, tzinfo=UTC)),
        ("Europe/Lisbon", datetime(2026, 10, 25, 1, tzinfo=UTC)),
    ],
)
def test_hours_around_a_clock_change_are_what_the_clock_on_the_wall_shows(name: str, change: datetime) -> None:
    where, middle = zone(name), instant_of(change)
    minutes = [middle + m * MINUTE for m in range(-150, 150)]

    def shown(at: int) -> tuple[int, timedelta | None]:
        there = moment_of(at, where)
        return there.hour, there.utcoffset()

    for hour in (list(group) for _, group in itertools.groupby(minutes, key=shown)):
        windows = {calendar_window("hour", at, where) for at in hour}
        assert len(windows) == 1
        if minutes[0] < hour[0] and hour[-1] < minutes[-1]:
            assert windows == {(hour[0], hour[-1] + MINUTE)}


def test_a_month_from_the_31st_ends_on_the_last_day_and_comes_back_to_the_31st() -> None:
    begin = local("2026-01-31T09:00")
    start, end = subscription_window("month", local("2026-03-05T00:00"), begin, LISBON)
    assert (moment_of(start, LISBON).date(), moment_of(end, LISBON).date()) == (date(2026, 2, 28), date(2026, 3, 31))
    with pytest.raises(Invalid):
        subscription_window("day", begin - 1, begin, LISBON)
