"""The terms of one plan revision: what it promises and what it costs."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Literal

from calm_tariff.core import limits as limit_rules
from calm_tariff.core import rating
from calm_tariff.core.errors import Invalid
from calm_tariff.core.limits import Limit, Quota
from calm_tariff.core.prices import Fee, Setup, UsagePrice
from calm_tariff.core.rating import Pricing
from calm_tariff.core.stays import TrialUnits

MOST_NOTICE = 366


@dataclass(frozen=True, slots=True, kw_only=True)
class Trial:
    """A free beginning: `days` long, or until `units` of `meter` are used, whichever comes first.

    Afterwards the plan's charges begin (`charge`), or the subscription ends (`end`).
    """

    days: int
    units: Decimal | None = None
    meter: str | None = None
    then: Literal["charge", "end"] = "charge"

    @property
    def alone(self) -> bool:
        """Whether its plan is nothing else: the subscription ends with it."""
        return self.then == "end"


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanTerms:
    """Limits in the order they are tested, and prices in the order they are charged.

    `overrides` are limits of single operations, tested after the plan's own; each says in
    `applies_to` which operations it is for. `notice_days` lie at least between a consumer's word that it ends and its
    end.
    """

    limits: tuple[Limit, ...] = ()
    overrides: tuple[Limit, ...] = ()
    trial: Trial | None = None
    pricing: Pricing = Pricing(prices=())
    notes: str = ""
    notice_days: int = 0

    def meters(self) -> tuple[str, ...]:
        """The keys of all meters the terms speak of, each once, in order."""
        named = [q.meter for q in (*self.limits, *self.overrides) if isinstance(q, Quota) and q.meter]
        if self.trial and self.trial.meter:
            named.append(self.trial.meter)
        named += [p.meter for p in self.pricing.prices if not isinstance(p, Setup | Fee)]
        return tuple(dict.fromkeys(named))

    def usage_price(self, meter: str) -> UsagePrice | None:
        """The price of a meter's units, if the plan sells them."""
        for price in self.pricing.prices:
            if not isinstance(price, Setup | Fee) and price.meter == meter:
                return price
        return None

    def limits_over(self, operations_of: Mapping[str, tuple[str, ...]]) -> tuple[Limit, ...]:
        """The plan's limits to test, each quota bound to the operations that its meter counts."""
        return bound(self.limits, operations_of)

    def overrides_over(self, operations_of: Mapping[str, tuple[str, ...]]) -> tuple[Limit, ...]:
        """The limits of single operations, quotas bound likewise."""
        return bound(self.overrides, operations_of)


def free_units(terms: PlanTerms) -> TrialUnits | None:
    """What ends a trial under these terms before its days have passed, if anything does."""
    trial = terms.trial
    if trial is None or trial.units is None or trial.meter is None:
        return None
    whole = int(trial.units)
    return TrialUnits(meter=trial.meter, units=whole if whole == trial.units else trial.units)


def bound(limits: Iterable[Limit], operations_of: Mapping[str, tuple[str, ...]]) -> tuple[Limit, ...]:
    """Limits with each quota of a meter applying only where that meter counts."""
    made: list[Limit] = []
    for limit in limits:
        if isinstance(limit, Quota) and limit.meter:
            counted = operations_of.get(limit.meter, ())
            if limit.applies_to is not None:
                counted = tuple(o for o in counted if o in limit.applies_to)
            limit = replace(limit, applies_to=counted)
        made.append(limit)
    return tuple(made)


def check(terms: PlanTerms, known_meters: frozenset[str]) -> None:
    """Raise `Invalid`, naming the field, for terms that cannot be kept or computed."""
    names: set[str] = set()
    for part in ("limits", "overrides"):
        for place, limit in enumerate(getattr(terms, part)):
            where = f"{part}[{place}]"
            limit_rules.check(limit, where)
            limit_rules.check_name(limit.name, f"{where}.name")
            if limit.name in names:
                raise Invalid(f"another limit of the plan is already named {limit.name!r}", f"{where}.name")
            names.add(limit.name)
            if part == "overrides" and not limit.applies_to:
                raise Invalid("must name at least one operation", f"{where}.applies_to")
    if terms.trial:
        _check_trial(terms.trial)
    if not 0 <= terms.notice_days <= MOST_NOTICE:
        raise Invalid(f"must be between 0 and {MOST_NOTICE}", "notice_days")
    rating.check_pricing(terms.pricing, "pricing")
    priced: set[str] = set()
    for place, price in enumerate(terms.pricing.prices):
        if not isinstance(price, Setup | Fee):
            if price.meter in priced:
                raise Invalid(f"{price.meter!r} already has a price", f"pricing.prices[{place}].meter")
            priced.add(price.meter)
    for meter in terms.meters():
        if meter not in known_meters:
            raise Invalid(f"there is no meter {meter!r} on this product", "terms")


def _check_trial(trial: Trial) -> None:
    if not 1 <= trial.days <= 366:
        raise Invalid("must be between 1 and 366", "trial.days")
    if (trial.units is None) != (trial.meter is None):
        raise Invalid("units and the meter they are counted by belong together", "trial.units")
    if trial.units is not None and trial.units <= 0:
        raise Invalid("must be above 0", "trial.units")
