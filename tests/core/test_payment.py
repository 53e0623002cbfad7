"""How is paid, and which plans ask for it."""

from datetime import datetime
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.errors import Invalid
from calm_tariff.core.payment import Payment, charges, payment
from calm_tariff.core.prices import Blocks, Fee, Graduated, PerUnit, Setup, Tier, Volume
from calm_tariff.core.rating import Pricing, Segment, rate
from calm_tariff.core.sentences import payment_in_words
from tests.core.pricings import START, case

some = st.sampled_from([Decimal(0), Decimal(1), Decimal("2.5")])
tiers = st.lists(st.tuples(some, some), min_size=1, max_size=3).map(
    lambda steps: tuple(
        Tier(up_to=None if n == len(steps) else Decimal(100 * n), unit=unit, flat=flat)
        for n, (unit, flat) in enumerate(steps, 1)
    )
)
included = st.sampled_from([Decimal(0), Decimal(30)])
prices = st.one_of(
    st.builds(Setup, amount=some),
    st.builds(Fee, amount=some),
    st.builds(PerUnit, meter=st.just("m"), unit=some, included=included),
    st.builds(Graduated, meter=st.just("m"), tiers=tiers, included=included),
    st.builds(Volume, meter=st.just("m"), tiers=tiers, included=included),
    st.builds(Blocks, meter=st.just("m"), block=st.just(Decimal(7)), amount=some, included=included),
)
bounds = st.none() | some
plans = st.builds(
    Pricing,
    prices=st.lists(prices, max_size=3).map(tuple),
    minimum=bounds,
    cap=bounds,
    discount_percent=st.sampled_from([Decimal(0), Decimal(50), Decimal(100)]),
)


@given(plans)
def test_a_plan_charges_where_some_use_of_it_comes_to_something(plan: Pricing) -> None:
    def comes_to(units: int) -> Decimal:
        first = Segment(start=START, end=None, plan=plan, first=True, usage={"m": Decimal(units)})
        return rate(case(first)).subtotal

    assert charges(plan) == any(comes_to(units) > 0 for units in (0, 40, 140, 240, 340, 9000))


def test_a_payment_method_is_read_and_said() -> None:
    assert payment("transfer", "  PO  7 ") == Payment(method="transfer", order_number="PO 7")
    assert payment_in_words(payment("transfer", "PO 7")) == "by transfer, order number PO 7"
    assert payment_in_words(payment("transfer")) == "by transfer"


@pytest.mark.parametrize(
    ("method", "number", "where", "what"),
    [
        ("barter", "", "payment.method", "must be one of transfer"),
        ("transfer", "n" * 41, "payment.order_number", "at most 40 characters"),
        ("transfer", "7\x007", "payment.order_number", "cannot be printed"),
    ],
)
def test_what_is_wrong_with_a_payment_method_is_named(method: str, number: str, where: str, what: str) -> None:
    with pytest.raises(Invalid, match=what) as refused:
        payment(method, number)
    assert refused.value.where == where


def test_months_of_a_free_plan_come_to_nothing_for_ever() -> None:
    free = Pricing(prices=(Fee(amount=Decimal(0)), PerUnit(meter="m", unit=Decimal(0), included=Decimal(0))))
    assert not charges(free)
    assert rate(case(Segment(start=datetime(2026, 1, 1, tzinfo=START.tzinfo), end=None, plan=free))).total == 0
