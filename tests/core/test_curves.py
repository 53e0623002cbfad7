"""The charge as a curve of the quantity, and where one plan becomes the cheaper."""

import itertools
from fractions import Fraction

from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core import curves
from calm_tariff.core.rating import Pricing, rate
from tests.core.pricings import START, case, pricings, segment


@given(pricings, st.integers(0, 6000))
def test_the_charge_curve_says_what_an_invoice_would(plan: Pricing, units: int) -> None:
    exact = curves.charge_at(curves.charge_curve(plan, "m", 6000), units)
    charged = rate(case(segment(plan, START, None, units))).subtotal
    # The invoice rounds fee, usage, discount and the bounds; the curve rounds nothing.
    assert abs(Fraction(charged) - exact) <= Fraction(3, 100)


@given(pricings, pricings)
def test_between_break_evens_one_plan_stays_the_cheaper(a: Pricing, b: Pricing) -> None:
    one, other = curves.charge_curve(a, "m", 6000), curves.charge_curve(b, "m", 6000)
    edges = [Fraction(0), *curves.break_evens(one, other), Fraction(6000)]
    for start, end in itertools.pairwise(edges):
        signs = set()
        for n in range(1, 20):
            q = start + (end - start) * n / 20
            difference = _at(one, q) - _at(other, q)
            if difference:
                signs.add(difference > 0)
        assert len(signs) <= 1


def _at(curve: curves.Curve, q: Fraction) -> Fraction:
    return next(p.at(q) for p in curve if q <= p.end)
