"""Sums that should be equal: which are not is found, and nothing else."""

from __future__ import annotations

from datetime import date
from decimal import Decimal

from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.billing.books.proof import CHECKS, Difference, Units, unequal

amounts = st.decimals(0, 10**6, places=6)
sums = st.dictionaries(st.integers(1, 20), amounts, max_size=10)


@given(sums)
def test_tables_that_say_the_same_differ_nowhere(said: dict[int, Decimal]) -> None:
    assert list(unequal({"calls": said, "hours": dict(said), "days": dict(reversed(said.items()))})) == []


@given(sums, st.data())
def test_what_one_table_says_otherwise_is_found_with_what_the_others_say(
    said: dict[int, Decimal], data: st.DataObject
) -> None:
    key = data.draw(st.integers(1, 20))
    by = data.draw(st.decimals("0.000001", 10, places=6))
    where = data.draw(st.sampled_from(["calls", "hours", "days"]))
    tables = {name: dict(said) for name in ("calls", "hours", "days")}
    tables[where][key] = tables[where].get(key, Decimal(0)) + by
    ((found, told),) = unequal(tables)
    assert found == key and [name for name, _ in told] == ["calls", "hours", "days"]
    before = said.get(key, Decimal(0))
    assert dict(told) == {name: before + (by if name == where else 0) for name in tables}


def test_what_a_table_does_not_know_is_nothing() -> None:
    assert list(unequal({"calls": {1: Decimal(0)}, "hours": {}})) == []
    ((key, told),) = unequal({"calls": {}, "hours": {1: Decimal(2)}})
    assert (key, told) == (1, (("calls", Decimal(0)), ("hours", Decimal(2))))
    made = Difference(check="units", what="units", sums=told, period=date(2026, 9, 1))
    assert made.by == -2


@given(*[amounts] * 4, st.decimals(-1000, 1000, places=6))
def test_units_agree_where_none_is_missing(
    charged: Decimal, nothing_due: Decimal, free: Decimal, running: Decimal, late: Decimal
) -> None:
    units = Units(charged=charged, nothing_due=nothing_due, free=free, running=running, late=late)
    assert units.agree  # calls that are not kept say nothing against it
    whole = charged + nothing_due + free + running + late
    assert units.accounted == whole
    for recorded, agree in ((whole, True), (whole + 1, False), (whole - Decimal("0.000001"), False)):
        assert (
            Units(
                recorded=recorded, charged=charged, nothing_due=nothing_due, free=free, running=running, late=late
            ).agree
            is agree
        )


def test_every_check_says_what_it_proves() -> None:
    assert len(set(CHECKS.values())) == len(CHECKS) == 9
