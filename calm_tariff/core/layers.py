"""The five layers of limits and the order in which they are tested (computation.md, section 1)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Literal

from calm_tariff.core.limits import Limit
from calm_tariff.core.terms import PlanTerms, bound

# A trial's units stand beside the layers: they say which terms apply, and refuse nothing.
Layer = Literal["provider", "api", "plan", "operation", "subscription", "trial"]
LAYERS: tuple[Layer, ...] = ("provider", "api", "plan", "operation", "subscription")


@dataclass(frozen=True, slots=True)
class LayeredLimit:
    """A limit and the place it comes from."""

    layer: Layer
    limit: Limit


def effective(
    provider: Iterable[Limit] = (),
    api: Iterable[Limit] = (),
    plan: Iterable[Limit] = (),
    operation: Iterable[Limit] = (),
    subscription: Iterable[Limit] = (),
) -> tuple[LayeredLimit, ...]:
    """Every limit that applies, in the order tested.

    A subscription override takes the place of the plan limit of the same name and may be laxer;
    everything else only tightens.
    """
    overrides = {limit.name: limit for limit in subscription}
    plan_limits = [limit for limit in plan if limit.name not in overrides]
    places: tuple[tuple[Layer, Iterable[Limit]], ...] = (
        ("provider", provider),
        ("api", api),
        ("plan", plan_limits),
        ("operation", operation),
        ("subscription", overrides.values()),
    )
    return tuple(LayeredLimit(layer, limit) for layer, limits in places for limit in limits)


def limits_of_a_plan(
    terms: PlanTerms,
    operations_of: Mapping[str, tuple[str, ...]],
    provider: Iterable[Limit],
    api: Iterable[Limit],
    subscription: Iterable[Limit] = (),
) -> tuple[LayeredLimit, ...]:
    """All that holds on a plan, each quota bound to the operations its meter counts (`operations_of`)."""
    return effective(
        provider=bound(provider, operations_of),
        api=bound(api, operations_of),
        plan=terms.limits_over(operations_of),
        operation=terms.overrides_over(operations_of),
        subscription=bound(subscription, operations_of),
    )
