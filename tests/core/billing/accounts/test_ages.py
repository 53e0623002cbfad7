"""How old what is open is."""

from datetime import date, timedelta

from calm_tariff.core.billing.accounts.ages import AGES, age_of, due_from

TODAY = date(2026, 12, 31)


def aged(days: int) -> str:
    return age_of(TODAY - timedelta(days=days), TODAY)


def test_an_age_is_counted_from_the_day_something_is_due() -> None:
    assert [aged(n) for n in (-1, 0, 30, 31, 60, 61, 90, 91, 4000)] == [
        "not due",
        *["0-30"] * 2,
        *["31-60"] * 2,
        *["61-90"] * 2,
        *["older"] * 2,
    ]


def test_each_age_begins_where_the_one_before_it_ends() -> None:
    firsts = [due_from(age, TODAY) for age in AGES]
    assert firsts[-1] is None
    for age, first in zip(AGES, firsts[:-1], strict=False):
        assert first is not None
        assert age_of(first, TODAY) == age != age_of(first - timedelta(days=1), TODAY)
