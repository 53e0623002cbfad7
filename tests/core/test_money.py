"""Amounts in whole minor units."""

from decimal import Decimal

import pytest

from calm_tariff.core.money import in_digits, rounded


@pytest.mark.parametrize(
    ("amount", "currency", "becomes"),
    [
        ("2.675", "EUR", "2.68"),
        ("-2.675", "EUR", "-2.68"),
        ("0.5", "JPY", "1"),
        ("1.0005", "KWD", "1.001"),
        ("-0.001", "EUR", "0.00"),
    ],
)
def test_rounding_is_half_away_from_zero_to_the_minor_unit(amount: str, currency: str, becomes: str) -> None:
    assert str(rounded(Decimal(amount), currency)) == becomes


@pytest.mark.parametrize(
    ("amount", "currency", "said"),
    [("7.5", "EUR", "7.50"), ("7.5", "JPY", "8"), ("1.2345", "KWD", "1.235"), ("-0.001", "EUR", "0.00")],
)
def test_an_amount_in_a_letter_has_all_digits_of_its_minor_unit(amount: str, currency: str, said: str) -> None:
    assert in_digits(Decimal(amount), currency) == said
