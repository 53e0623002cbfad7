"""When an invoice is tried."""

from __future__ import annotations

from datetime import date, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.billing.accounts.collecting import check, next_try, planned, to_try
from calm_tariff.core.errors import Invalid

DUE = date(2026, 10, 16)
USUAL = (0, 1, 3, 7)


def day(n: int) -> date:
    return DUE + timedelta(days=n)


def test_a_card_is_tried_on_the_day_due_and_three_times_after() -> None:
    assert planned(DUE, USUAL) == (day(0), day(1), day(3), day(7))
    tried: list[date] = []
    for n in range(-3, 40):
        if to_try(DUE, tried, USUAL, day(n)) is not None:
            tried.append(day(n))
    assert tried == [day(0), day(1), day(3), day(7)]


def test_what_was_missed_is_tried_once() -> None:
    assert to_try(DUE, [], USUAL, day(5)) == day(3)
    assert to_try(DUE, [day(5)], USUAL, day(6)) is None
    assert to_try(DUE, [day(5)], USUAL, day(7)) == day(7)


def test_a_try_by_hand_before_the_day_does_not_stand_for_it() -> None:
    assert to_try(DUE, [day(-1)], USUAL, day(0)) == day(0)
    assert to_try(DUE, [day(0)], USUAL, day(0)) is None


def test_the_next_try_is_today_where_it_is_to_be_made_now() -> None:
    assert next_try(DUE, [], USUAL, day(-9)) == day(0)
    assert next_try(DUE, [], USUAL, day(2)) == day(2)
    assert next_try(DUE, [day(2)], USUAL, day(2)) == day(3)
    assert next_try(DUE, [day(7)], USUAL, day(7)) is None
    assert next_try(DUE, [], (), day(0)) is None


@given(st.lists(st.integers(0, 60), unique=True, max_size=10).map(sorted), st.sets(st.integers(0, 80)))
def test_however_often_somebody_looks_each_day_of_the_plan_is_tried_once_at_most(
    days: list[int], looks: set[int]
) -> None:
    tried: list[date] = []
    for n in sorted(looks):
        meant = to_try(DUE, tried, days, day(n))
        if meant is not None:
            assert meant <= day(n) and (not tried or meant > tried[-1])
            tried.append(day(n))
    assert len(tried) <= len(days)
    if days and looks and max(looks) >= max(days):
        assert tried and tried[-1] >= day(max(days))


@pytest.mark.parametrize(
    ("days", "where"),
    [((-1,), "[0]"), ((0, 0), "[1]"), ((3, 2), "[1]"), ((0, 61), "[1]"), (tuple(range(11)), "")],
)
def test_tries_that_mean_nothing_are_refused(days: tuple[int, ...], where: str) -> None:
    with pytest.raises(Invalid) as refused:
        check(days)
    assert refused.value.where == f"tries_after_days{where}"
