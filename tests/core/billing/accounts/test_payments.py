"""What may be booked by hand."""

from datetime import date
from decimal import Decimal

import pytest

from calm_tariff.core.billing.accounts.payments import Money, checked
from calm_tariff.core.errors import Invalid

TODAY = date(2026, 10, 20)


def money(amount: str, on: date = TODAY, reference: str = "") -> Money:
    return Money(amount=Decimal(amount), value_on=on, reference=reference)


def test_money_is_kept_in_whole_minor_units() -> None:
    kept = checked(money("12.5", reference=" RF32INV202600017 "), "EUR", TODAY)
    assert (str(kept.amount), kept.reference) == ("12.50", "RF32INV202600017")
    assert str(checked(money("12"), "JPY", TODAY).amount) == "12"


@pytest.mark.parametrize(
    ("given", "where"),
    [
        (money("0"), "amount"),
        (money("-1"), "amount"),
        (money("NaN"), "amount"),
        (money("Infinity"), "amount"),
        (money("0.005"), "amount"),
        (money("1E15"), "amount"),
        (money("1", date(2026, 10, 21)), "value_on"),
        (money("1", reference="x" * 141), "reference"),
        (money("1", reference="a\u202eb"), "reference"),
    ],
)
def test_what_cannot_be_booked_is_refused(given: Money, where: str) -> None:
    with pytest.raises(Invalid) as refused:
        checked(given, "EUR", TODAY)
    assert refused.value.where == where
