"""The five layers of limits and the order in which they are tested (docs/arithmetic.md, section 1)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Literal

from calm_tariff.core.limits import Limit
from calm_tariff.core.meters import Environment, Meter
from calm_tariff.core.terms import PlanTerms, bound

# A trial's units stand beside the layers: they say which terms apply, and refuse nothing. So does what bounds tries of
# the sandbox without an account, which are under no plan.
Layer = Literal["provider", "api", "plan", "operation", "subscription", "trial", "sandbox"]
# How limits for everything are named apart.
EVERYWHERE = "every API"
LAYERS: tuple[Layer, ...] = ("provider", "api", "plan", "operation", "subscription")


@dataclass(frozen=True, slots=True)
class LayeredLimit:
    """A limit and the place it comes from."""

    layer: Layer
    limit: Limit

    def applies_to(self, operation: str) -> bool:
        """Whether calls on an operation meet it."""
        return self.limit.applies_to is None or operation in self.limit.applies_to


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


@dataclass(frozen=True, slots=True, kw_only=True)
class House:
    """What holds besides a plan: limits for everything, those of API versions, each bound to that version's
    operations, and the operations each meter counts on, by its key."""

    provider: tuple[Limit, ...] = ()
    api: tuple[Limit, ...] = ()
    counted_on: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    @property
    def layers(self) -> dict[str, Layer]:
        """The layer of each limit above plans, by its name."""
        provider: dict[str, Layer] = {limit.name: "provider" for limit in self.provider}
        return provider | {limit.name: "api" for limit in self.api}

    def with_plan(self, terms: PlanTerms, subscription: Iterable[Limit] = ()) -> tuple[LayeredLimit, ...]:
        """All that holds on a plan, in the order tested; each quota is bound to the operations its meter counts on.
        `subscription` are a subscription's own limits."""
        return effective(
            provider=bound(self.provider, self.counted_on),
            api=bound(self.api, self.counted_on),
            plan=terms.limits_over(self.counted_on),
            operation=terms.overrides_over(self.counted_on),
            subscription=bound(subscription, self.counted_on),
        )


def counted_on(meters: Iterable[Meter], environment: Environment) -> dict[str, tuple[str, ...]]:
    """The operations on which each meter counts calls of an environment, by its key; no others are named."""
    return {meter.key: tuple(sorted(meter.operations)) for meter in meters if environment in meter.environments}


def placed(limits: Iterable[Limit], operations: Iterable[str], place: str = "") -> tuple[Limit, ...]:
    """Limits of an API version for just its operations. With the name of the place before their own they are told from
    a plan's in receipts and in what callers hear."""
    within = tuple(operations)
    return tuple(replace(limit, name=named_apart(limit, place), applies_to=within) for limit in limits)


def for_all(limits: Iterable[Limit], place: str = EVERYWHERE) -> tuple[Limit, ...]:
    """Limits for everything, likewise named by their place."""
    return tuple(replace(limit, name=named_apart(limit, place), applies_to=None) for limit in limits)


def named_apart(limit: Limit, place: str) -> str:
    """A limit's name with its place before it, where one is given."""
    return f"{place}: {limit.name}" if place else limit.name
