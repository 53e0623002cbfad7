"""An alert is reached by the first call with which its count comes to the threshold (docs/arithmetic.md, section 9)."""

from __future__ import annotations

from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core import alerts
from calm_tariff.core.errors import Invalid

units = st.decimals(0, 50, places=2)


def test_a_threshold_is_reached_at_so_many_percent_and_not_before() -> None:
    assert not alerts.reached(Decimal("799.999999"), Decimal(1000), 80)
    assert alerts.reached(Decimal(800), Decimal(1000), 80)
    assert alerts.reached(Decimal(1), Decimal(3), 33) and not alerts.reached(Decimal(1), Decimal(3), 34)
    assert alerts.reached(Decimal(1500), Decimal(1000), 150)


@given(st.lists(st.tuples(st.sampled_from("ab"), units)), st.integers(1, 300), st.integers(1, 200))
def test_the_first_call_is_the_one_before_which_no_count_was_there(
    counted: list[tuple[str, Decimal]], allowance: int, percent: int
) -> None:
    found = alerts.first_reaching(
        ((subject, n, place) for place, (subject, n) in enumerate(counted)), Decimal(allowance), percent
    )

    def there(upto: int) -> bool:
        return any(
            alerts.reached(sum((n for s, n in counted[:upto] if s == subject), Decimal(0)), Decimal(allowance), percent)
            for subject in "ab"
        )

    if found is None:
        assert not there(len(counted))
    else:
        assert there(found + 1) and not there(found)


@pytest.mark.parametrize("wrong", [0, -1, 1001])
def test_percent_are_between_one_and_a_thousand(wrong: int) -> None:
    with pytest.raises(Invalid):
        alerts.percent(wrong)
    assert alerts.percent(1) == 1 and alerts.percent(1000) == 1000


@pytest.mark.parametrize("wrong", ["0", "-1", "0.00001", "NaN", "Infinity", "1000000000000"])
def test_an_amount_is_above_nothing_with_four_places_at_most(wrong: str) -> None:
    with pytest.raises(Invalid) as error:
        alerts.amount(Decimal(wrong))
    assert error.value.where == "amount"
    assert alerts.amount(Decimal("0.0001")) == Decimal("0.0001")
