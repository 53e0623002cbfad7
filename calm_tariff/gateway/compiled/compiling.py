"""Grants compiled: the limits, meters and names of counts that their calls meet; what grants have in common once."""

from __future__ import annotations

from bisect import bisect_right
from dataclasses import dataclass

from calm_tariff.core import counts
from calm_tariff.core.counts import Names, Where, house_name
from calm_tariff.core.layers import Layer
from calm_tariff.core.limiter import Stack
from calm_tariff.core.limits import COUNTED_PER, TRIAL_NAME, Costs, Limit, Quota, trial_quota
from calm_tariff.core.meters import Environment, Meter, costs_of
from calm_tariff.core.periods import zone
from calm_tariff.core.stays import boundaries, holds
from calm_tariff.core.strangers import TRIES_NAME
from calm_tariff.core.terms import PlanTerms, bound
from calm_tariff.formats.replies import Policies
from calm_tariff.services.serve.gateway_feed import (
    Caller,
    Feed,
    ProductRules,
)
from calm_tariff.services.serve.grants import Grant, histories


@dataclass(frozen=True, slots=True)
class Counting:
    """A meter that may count an operation's calls."""

    meter_id: int
    meter: Meter


@dataclass(frozen=True, slots=True, kw_only=True)
class Access:
    """What a call on one operation meets under one grant while nothing of it changes.

    `costs` is what it takes from quotas until the response is in; `above` names the limits that no plan
    revision keeps, with the layer they come from, which receipts therefore keep whole. `wants` are the
    values calls are counted by that the call itself carries: `claim:…`, `header:…`, `address`.
    """

    grant: Grant
    stack: Stack
    operation: str
    meters: tuple[Counting, ...]
    policies: Policies
    costs: Costs
    above: dict[str, Layer]
    wants: tuple[str, ...]
    rules: ProductRules
    caller: Caller
    scopes: frozenset[str]


class CountNames:
    """The names of everybody's counts, worked out when a consumer is first met, and when its limits change."""

    def __init__(self, feed: Feed) -> None:
        self.feed = feed
        self.plans = {grant.revision_id: grant.plan_id for grant in feed.grants}
        self.of_consumer: dict[int, list[Grant]] = {}
        for grant in feed.grants:
            self.of_consumer.setdefault(grant.consumer_id, []).append(grant)
        self.anew = {product for product, rules in feed.products.items() if rules.moves_anew}
        self._names: dict[int, dict[Where, Names]] = {}

    def edges(self, grant: Grant) -> list[int]:
        """The instants of a grant from which other limits hold, the first included, in order."""
        own = self.feed.overrides.get(grant.subscription_id)
        if not own and not grant.before:
            return [grant.start_us]
        cuts = (*boundaries(own or ()), *(each.end_us for each in grant.before))
        return sorted({grant.start_us, *(at for at in cuts if holds(grant, at))})

    def names(self, grant: Grant, at_us: int) -> Names | None:
        """The names of a grant's counts at an instant; None where all are plain, as with one stay and no override."""
        if not grant.subscription_id:
            return None
        grants = self.of_consumer[grant.consumer_id]
        if len(grants) == 1 and grant.subscription_id not in self.feed.overrides and not grant.before:
            return None
        known = self._names.get(grant.consumer_id)
        if known is None:
            known = self._names[grant.consumer_id] = counts.names_of(
                histories(grants, self.feed.overrides, self.anew), self.plans, self.feed.terms
            )
        edges = self.edges(grant)
        return known[grant.subscription_id, edges[bisect_right(edges, at_us) - 1], grant.stay_id]


_Place = tuple[int, int, tuple[Limit, ...], tuple[tuple[str, str], ...], int]


class Compiler:
    """Compiles grants for one environment; what grants have in common is compiled once."""

    def __init__(self, feed: Feed, environment: Environment, named: CountNames) -> None:
        self.feed, self.environment, self.named = feed, environment, named
        self.where = zone(feed.time_zone)
        self.counting: dict[int, list[Counting]] = {}
        meters = {i: m for i, m in feed.meters.items() if environment in m.environments}
        for meter_id, meter in meters.items():
            for operation in meter.operations:
                self.counting.setdefault(int(operation), []).append(Counting(meter_id, meter))
        self.house = feed.house(environment)
        self.layers = self.house.layers
        self.above: dict[str, Layer] = {**self.layers, TRIES_NAME: "sandbox"}
        self.secret_values = frozenset(f"header:{rules.key_header}" for rules in feed.products.values())
        self.prefix = "" if environment == "live" else f"{environment}/"
        self.shared: dict[_Place, Stack] = {}
        self.policies: dict[tuple[int, str, int], Policies] = {}

    def stack(self, grant: Grant, at_us: int) -> Stack:
        """The limits of a grant at an instant, of all layers, in the order tested."""
        terms, own = self.feed.terms[grant.revision_id], self._own(grant, at_us)
        origin = grant.started_us if _from_subscribing(terms, own) else 0
        plain = counts.plain_names(grant.plan_id, terms, own, grant.started_us)
        names = self.named.names(grant, at_us) or plain
        odd = tuple((name, given) for name, given in names.items() if plain[name] != given)
        place = (grant.revision_id, origin, own, odd, grant.stay_id if grant.free else 0)
        known = self.shared.get(place)
        if known is not None:
            return known
        layered = self.house.with_plan(terms, subscription=own)
        limits = [each.limit for each in layered]
        scopes = [
            self.prefix + (house_name(e.layer, e.limit) if e.limit.name in self.layers else names[e.limit.name])
            for e in layered
        ]
        if grant.free:
            limits[:0] = bound([trial_quota(grant.free.meter, grant.free.units)], self.house.counted_on)
            scopes[:0] = [f"trial/{grant.stay_id}"]
        made = self.shared[place] = Stack(limits, self.where, origin, scopes)
        return made

    def access(
        self, grant: Grant, *, at_us: int, caller: Caller, operation_id: int, scopes: frozenset[str], credential: str
    ) -> Access:
        """What calls on one operation meet at an instant."""
        operation = str(operation_id)
        stack = self.stack(grant, at_us)
        meters = tuple(self.counting.get(operation_id, ()))
        costs = costs_of(tuple(c.meter for c in meters), operation, self.environment, credential)
        applying = [c.limit for c in stack.applying(operation, costs)]
        place = (id(stack), operation, id(costs))
        policies = self.policies.get(place)
        if policies is None:
            policies = self.policies[place] = Policies.of(applying)
        above = self.above
        own = self._own(grant, at_us)
        if own:
            above = {**above, **{limit.name: "subscription" for limit in own}}
        if grant.free:
            above = {**above, TRIAL_NAME: "trial"}
        wants = tuple(dict.fromkeys(x.counted_per for x in applying if self._may_be_read(x.counted_per)))
        rules = self.feed.products[grant.product_id]
        return Access(
            grant=grant,
            stack=stack,
            operation=operation,
            meters=meters,
            policies=policies,
            costs=costs,
            above=above,
            wants=wants,
            rules=rules,
            caller=caller,
            scopes=scopes,
        )

    def _may_be_read(self, counted_per: str) -> bool:
        """Whether calls are counted by a value they carry. What carries a credential of any product is never looked
        at, whatever a limit says: the key counts then."""
        return counted_per not in COUNTED_PER and counted_per.lower() not in self.secret_values

    def _own(self, grant: Grant, at_us: int) -> tuple[Limit, ...]:
        overrides = self.feed.overrides.get(grant.subscription_id)
        return tuple(each.limit for each in overrides if holds(each, at_us)) if overrides else ()


def _from_subscribing(terms: PlanTerms, own: tuple[Limit, ...]) -> bool:
    quotas = (limit for limit in (*terms.limits, *terms.overrides, *own) if isinstance(limit, Quota))
    return any(quota.aligned == "subscription" for quota in quotas)
