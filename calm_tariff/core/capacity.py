"""What plans promise against what back ends can take, in calls a second."""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction

from calm_tariff.core.limits import Rate
from calm_tariff.core.terms import PlanTerms


def promised(terms: PlanTerms) -> Fraction:
    """The calls a second that one subscription to a plan may make for as long as it likes: all its rates."""
    rates = (Fraction(limit.calls, limit.per_seconds) for limit in terms.limits if isinstance(limit, Rate))
    return sum(rates, Fraction(0))


def sold(plans: Iterable[tuple[PlanTerms, int]]) -> Fraction:
    """What all subscriptions to plans may make together; each plan comes with how many it has."""
    return sum((promised(terms) * subscriptions for terms, subscriptions in plans), Fraction(0))
