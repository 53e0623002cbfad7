"""What a price makes of a quantity."""

from decimal import Decimal

from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.prices import cost
from tests.core.pricings import rising


@given(rising, st.integers(0, 9000), st.integers(0, 900))
def test_more_usage_never_costs_less(price, quantity: int, more: int) -> None:
    assert cost(price, Decimal(quantity + more)) >= cost(price, Decimal(quantity))
