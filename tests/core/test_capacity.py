"""What plans promise against what back ends take."""

from __future__ import annotations

from fractions import Fraction

from calm_tariff.core.capacity import promised, sold
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from tests.office import terms


def test_all_rates_of_all_subscriptions_are_sold_to_the_last_fraction_of_a_call() -> None:
    ten = read(PlanTerms, terms(calls=10))
    slow = read(PlanTerms, {**terms(), "limits": [{**terms()["limits"][0], "calls": 1, "per_seconds": 3}]})
    none = read(PlanTerms, {**terms(), "limits": []})
    assert (promised(ten), promised(slow), promised(none)) == (10, Fraction(1, 3), 0)
    assert sold([(ten, 2), (slow, 3), (none, 99)]) == 21 and sold([]) == 0
