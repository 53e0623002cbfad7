"""Charges: shares of a period, what is prorated, what is refused."""

import itertools
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from fractions import Fraction
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core import rating
from calm_tariff.core.errors import Invalid
from calm_tariff.core.periods import Period
from calm_tariff.core.prices import Fee, Setup
from calm_tariff.core.rating import Pricing, RatingCase, Segment, rate, share_of
from tests.core.pricings import START, UNIT, case, pricings, segment, tier, tiered


@given(st.lists(st.integers(1, 30 * 24 * 60), max_size=5, unique=True))
def test_the_shares_of_a_whole_period_sum_to_one(cuts: list[int]) -> None:
    edges = [START, *(START + timedelta(minutes=m) for m in sorted(cuts)), None]
    plan = Pricing(prices=(Fee(amount=Decimal(40)),))
    parts = [segment(plan, a, b) for a, b in itertools.pairwise(edges) if a is not None]
    whole = case(*parts)
    assert sum(share_of(whole, p)[1] for p in parts) == Fraction(1)


@given(pricings, st.integers(1, 30 * 24 * 60), st.integers(0, 5000))
def test_cutting_a_segment_without_a_change_moves_prorated_amounts_by_rounding_only(plan, minutes, units) -> None:
    prorated = Pricing(prices=(plan.prices[0],), prorate=True)
    cut = START + timedelta(minutes=minutes)
    one = rate(case(segment(prorated, START, None))).subtotal
    two = rate(case(segment(prorated, START, cut), segment(prorated, cut, None))).subtotal
    assert abs(one - two) <= Decimal("0.01")


def test_a_setup_price_waits_for_the_end_of_the_trial() -> None:
    plan = Pricing(prices=(Setup(amount=Decimal(25)), Fee(amount=Decimal(31))))
    middle = START + timedelta(days=10)
    trial = Segment(start=START, end=middle, plan=plan, trial=True, first=True)
    paid = Segment(start=middle, end=None, plan=plan, first=True)
    lines = rate(case(trial, paid)).lines
    assert [(x.segment, x.kind, x.amount) for x in lines] == [
        (0, "fee", Decimal("0.00")),
        (1, "setup", Decimal("25.00")),
        (1, "fee", Decimal("21.00")),
    ]


def at(day: int, zone: Any = UTC) -> datetime:
    return datetime(2026, 9, day, tzinfo=zone)


def september(segment: dict[str, Any], **changed: Any) -> RatingCase:
    stretch = {"start": at(1), "end": at(2), "plan": Pricing(prices=(UNIT,)), **segment}
    whole = {
        "currency": "EUR",
        "time_zone": "Europe/Lisbon",
        "period": Period(at(1), at(30)),
        "tax_percent": Decimal(23),
    }
    return RatingCase(**{**whole, **changed}, segments=(Segment(**stretch),))


@pytest.mark.parametrize(
    ("segment", "changed", "where"),
    [
        ({}, {"period": Period(at(1), at(1))}, "period.end"),
        ({}, {"tax_percent": Decimal("-0.1")}, "tax_percent"),
        ({"start": at(1, None)}, {}, "segments[0].start"),
        ({"end": at(2, None)}, {}, "segments[0].end"),
        ({"start": at(3)}, {}, "segments[0].end"),
        ({"usage": {"calls": Decimal(-1)}}, {}, "segments[0].usage.calls"),
        ({"plan": tiered(tier(10))}, {}, "segments[0].plan.prices[0].tiers[0].up_to"),
        ({}, {"currency": "XXQ"}, "currency"),
        ({}, {"time_zone": "Europe/Larkmouth"}, "time_zone"),
    ],
)
def test_a_case_that_cannot_be_computed_is_refused_by_its_field(segment, changed, where: str) -> None:
    assert rating.rate(september({})).total == 0
    with pytest.raises(Invalid) as refused:
        rating.rate(september(segment, **changed))
    assert refused.value.where == where
