"""Mistakes that a tariff sheet can be told of while it is written: each rule looks for one of them."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction

from calm_tariff.core import capacity, prices
from calm_tariff.core.limits import Limit, Quota, Rate
from calm_tariff.core.money import rounded
from calm_tariff.core.prices import Fee, Setup, Volume
from calm_tariff.core.sentences import money, number
from calm_tariff.core.terms import PlanTerms

SPAN = {"minute": 60, "hour": 3600, "day": 86400, "week": 604800, "month": 2678400}
SOON = Fraction(1, 100)


@dataclass(frozen=True, slots=True)
class CheckedPlan:
    """A plan as the sheet says it now. `subscriptions` hold it at present."""

    name: str
    terms: PlanTerms
    subscriptions: int = 0


@dataclass(frozen=True, slots=True)
class MeterStanding:
    """A meter as far as prices depend on it. `counts` is whether it counts some operation that is sold."""

    name: str
    state: str
    counts: bool


@dataclass(frozen=True, slots=True)
class Sold:
    """What a product sells: labels of operations that no call can reach, and each back end's capacity in
    calls a second, by API version."""

    unreachable: tuple[str, ...] = ()
    capacities: Mapping[str, int] | None = None


def remarks(
    product: str, plans: Sequence[CheckedPlan], meters: Mapping[str, MeterStanding], sold: Sold, currency: str
) -> list[str]:
    """Everything worth a look, plan by plan, then the product as a whole."""
    found: list[str] = []
    for plan in plans:
        found += _rates_against_quotas(plan, meters)
        found += _included_beyond_quota(plan)
        found += _more_costs_less(plan, meters, currency)
        found += _without_meter(plan, meters)
    for lower, higher in itertools.pairwise(plans):
        found += _worse(lower, higher, meters)
    found += [f"{label} is sold, but no call can reach it." for label in sold.unreachable]
    found += _beyond_capacity(product, plans, sold)
    return found


def _rates_against_quotas(plan: CheckedPlan, meters: Mapping[str, MeterStanding]) -> Iterator[str]:
    """A quota that the rate can never spend, or spends in moments."""
    rates = [limit for limit in plan.terms.limits if isinstance(limit, Rate)]
    if not rates:
        return
    slowest = min(rates, key=lambda r: Fraction(r.calls, r.per_seconds))
    for quota in (limit for limit in plan.terms.limits if isinstance(limit, Quota)):
        seconds = Fraction(quota.units) * slowest.per_seconds / slowest.calls
        span = SPAN[quota.every]
        if seconds > span:
            most = span * slowest.calls // slowest.per_seconds
            yield (
                f"{plan.name} can make at most {number(most)} calls a {quota.every}; its allowance of "
                f"{number(quota.units)} is out of reach for one {slowest.counted_per}."
            )
        elif quota.when_spent == "refuse" and seconds < span * SOON:
            what = f" of {meters[quota.meter].name.lower()}" if quota.meter and quota.meter in meters else ""
            yield f"{plan.name} at full rate can spend its {quota.every}{what} in {_span(seconds)}."


def _included_beyond_quota(plan: CheckedPlan) -> Iterator[str]:
    for quota in (limit for limit in plan.terms.limits if isinstance(limit, Quota)):
        price = plan.terms.usage_price(quota.meter or "")
        if price and quota.every == "month" and quota.when_spent == "refuse" and price.included > quota.units:
            yield f"{plan.name} includes {number(price.included)}, more than its allowance of {number(quota.units)}."


def _more_costs_less(plan: CheckedPlan, meters: Mapping[str, MeterStanding], currency: str) -> Iterator[str]:
    """A step at which one unit more makes the whole cheaper: it rewards waste."""
    for price in plan.terms.pricing.prices:
        if not isinstance(price, Volume):
            continue
        for tier in price.tiers:
            if tier.up_to is None:
                continue
            at, beyond = prices.cost(price, tier.up_to), prices.cost(price, tier.up_to + 1)
            if beyond < at:
                name = meters[price.meter].name if price.meter in meters else price.meter
                yield (
                    f"{plan.name}: {number(price.included + tier.up_to)} {name.lower()} cost "
                    f"{money(rounded(at, currency), currency)}, one more only "
                    f"{money(rounded(beyond, currency), currency)} in total."
                )


def _without_meter(plan: CheckedPlan, meters: Mapping[str, MeterStanding]) -> Iterator[str]:
    for key in plan.terms.meters():
        meter = meters.get(key)
        if meter is None or not meter.counts:
            yield f"{plan.name} speaks of {meter.name if meter else key}, which counts nothing that is sold here."
        elif meter.state != "active":
            yield f"{plan.name} speaks of {meter.name}, which is {meter.state} and counts nothing."


def _worse(lower: CheckedPlan, higher: CheckedPlan, meters: Mapping[str, MeterStanding]) -> Iterator[str]:
    """A term of a plan further right that gives less than the one before it."""
    if _fee(higher) < _fee(lower):
        return
    for one, other in _matching(lower.terms.limits, higher.terms.limits):
        if isinstance(one, Quota) and isinstance(other, Quota):
            name = meters[one.meter].name if one.meter and one.meter in meters else one.name
            if other.units < one.units and other.when_spent == "refuse":
                yield (
                    f"{higher.name} allows {number(other.units)} {name.lower()} a {other.every}, less than "
                    f"{lower.name} with {number(one.units)}."
                )
        elif isinstance(one, Rate) and isinstance(other, Rate):
            if Fraction(other.calls, other.per_seconds) < Fraction(one.calls, one.per_seconds):
                yield f"{higher.name} is slower than {lower.name}."
            elif other.burst < one.burst:
                yield f"{higher.name} takes {number(other.burst)} at once, {lower.name} {number(one.burst)}."
    for price in higher.terms.pricing.prices:
        if isinstance(price, Setup | Fee):
            continue
        before = lower.terms.usage_price(price.meter)
        if before and price.included < before.included:
            yield f"{higher.name} includes {number(price.included)}, {lower.name} {number(before.included)}."


def _matching(lower: Sequence[Limit], higher: Sequence[Limit]) -> Iterator[tuple[Limit, Limit]]:
    """Limits of two plans that say the same kind of thing about the same count."""

    def place(limit: Limit) -> tuple[object, ...]:
        return (
            limit.kind,
            limit.counted_per,
            getattr(limit, "meter", None),
            getattr(limit, "every", None),
        )

    known = {place(limit): limit for limit in lower}
    for limit in higher:
        if place(limit) in known:
            yield known[place(limit)], limit


def _beyond_capacity(product: str, plans: Sequence[CheckedPlan], sold: Sold) -> Iterator[str]:
    promised = capacity.sold((plan.terms, plan.subscriptions) for plan in plans)
    short = {name: takes for name, takes in (sold.capacities or {}).items() if promised > takes}
    if short:
        takes = ", ".join(f"{name} takes {number(most)}" for name, most in short.items())
        yield f"All rates sold on {product}: {number(int(promised))} a second. The back end of {takes}."


def _fee(plan: CheckedPlan) -> Decimal:
    return sum((p.amount for p in plan.terms.pricing.prices if isinstance(p, Fee)), Decimal(0))


def _span(seconds: Fraction) -> str:
    if seconds < 120:
        return f"{int(seconds)} seconds"
    if seconds < 7200:
        return f"{int(seconds // 60)} minutes"
    return f"{int(seconds // 3600)} hours"
