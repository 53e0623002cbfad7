"""What takes two people."""

from decimal import Decimal

import pytest

from calm_tariff.core.billing.second_person import needs_second, refuse_own
from calm_tariff.core.errors import NotAllowed


def test_more_than_the_limit_up_or_down_takes_two() -> None:
    limit = Decimal(20)
    amounts = [Decimal(20), Decimal("20.01"), Decimal(-20), Decimal("-20.01")]
    assert [needs_second(amount, limit) for amount in amounts] == [False, True, False, True]
    assert not needs_second(Decimal(10**9), None)
    assert needs_second(Decimal("0.01"), Decimal(0))


def test_nobody_agrees_to_their_own() -> None:
    refuse_own("person 1", "person 2")
    with pytest.raises(NotAllowed):
        refuse_own("person 1", "person 1")
