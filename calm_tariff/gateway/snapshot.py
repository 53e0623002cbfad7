"""All a gateway knows, compiled for deciding and immutable: swapped whole when something changes."""

from __future__ import annotations

from dataclasses import dataclass

from calm_tariff.core.layers import LayeredLimit, limits_of_a_plan
from calm_tariff.core.limiter import Stack
from calm_tariff.core.limits import Pace, Quota, Rate
from calm_tariff.core.meters import Environment, Meter
from calm_tariff.core.periods import zone
from calm_tariff.core.terms import PlanTerms
from calm_tariff.gateway import told
from calm_tariff.gateway.routing import Match, Router
from calm_tariff.gateway.told import Headers, Policies
from calm_tariff.services.gateway_feed import Credential, Feed, Grant, Route


@dataclass(frozen=True, slots=True)
class Counting:
    """A meter that may count an operation's calls; `priced` marks one that quotas of the plan use."""

    meter_id: int
    meter: Meter


@dataclass(frozen=True, slots=True)
class Access:
    """What a call on one operation meets under one grant.

    `reserves` is its cost against quotas until the response is in; `house` names the limits that come
    from above the plan, which receipts keep whole, because no revision does.
    """

    grant: Grant
    stack: Stack
    operation: str
    meters: tuple[Counting, ...]
    policies: Policies
    settles: bool
    reserves: int
    house: frozenset[str]


@dataclass(frozen=True, slots=True)
class Place:
    """Where a call is bound: an API version and what its path leads to there."""

    route: Route
    match: Match
    rest: str
    notices: Headers


@dataclass(frozen=True, slots=True)
class _Entrance:
    """One version's way in; `notices` are the fields its answers carry about its end."""

    route: Route
    router: Router
    notices: Headers

    def lets_in(self, headers: Headers | tuple[()]) -> bool:
        """Whether a call's header or host picks this version."""
        by, name, value = self.route.chosen
        if by == "path":
            return True
        wanted = name.encode() if by == "header" else b"host"
        given = next((v for k, v in headers if k == wanted), b"").decode("latin-1").strip().lower()
        return given == value or (by == "host" and given.split(":")[0] == value)


@dataclass(frozen=True, slots=True)
class Snapshot:
    """Routes, credentials by hash, access by (application, operation, environment), and stacks by
    (subscription, environment)."""

    number: int
    credentials: dict[str, Credential]
    access: dict[tuple[int, int, str], Access]
    stacks: dict[tuple[int, str], tuple[Grant, Stack]]
    sandbox_keys: frozenset[int]
    _entrances: tuple[tuple[str, tuple[_Entrance, ...]], ...]

    def place(self, method: str, path: str, headers: Headers | tuple[()] = ()) -> Place | None:
        """Where a raw path leads; None where no API answers. Versions with the same base path are told
        apart by header or host; one chosen by the path alone takes what is left."""
        for base, entrances in self._entrances:
            if path.startswith(base) and path[len(base) : len(base) + 1] in ("/", ""):
                rest = path[len(base) :] or "/"
                for entrance in entrances:
                    if entrance.lets_in(headers):
                        if entrance.route.gone:
                            return Place(entrance.route, Match(None, ()), rest, entrance.notices)
                        match = entrance.router.match(method, rest)
                        return None if match is None else Place(entrance.route, match, rest, entrance.notices)
                return None
        return None

    def environment_of(self, key_id: int) -> str:
        """The environment a recorded call's key belongs to."""
        return "sandbox" if key_id in self.sandbox_keys else "live"


EMPTY = Snapshot(-1, {}, {}, {}, frozenset(), ())


def compiled(feed: Feed) -> Snapshot:
    """The snapshot of a feed."""
    access: dict[tuple[int, int, str], Access] = {}
    stacks: dict[tuple[int, str], tuple[Grant, Stack]] = {}
    sandboxed = {c.application_id for c in feed.credentials if c.environment == "sandbox"}
    environments: tuple[Environment, ...] = ("live", "sandbox")
    for environment in environments:
        compiler = _Compiler(feed, environment)
        for grant in feed.grants:
            if environment == "sandbox" and grant.application_id not in sandboxed:
                continue
            stack = compiler.stack(grant)
            stacks[grant.subscription_id, environment] = (grant, stack)
            for operation_id in feed.sold.get(grant.product_id, ()):
                # Where two of an application's subscriptions sell an operation, the older one serves it.
                place = (grant.application_id, operation_id, environment)
                if place not in access:
                    access[place] = compiler.access(grant, stack, operation_id)
    by_base: dict[str, list[_Entrance]] = {}
    for route in feed.routes:
        entrance = _Entrance(route, Router(route.operations), told.ending(route.deprecated_us, route.sunset_us))
        by_base.setdefault(route.base_path, []).append(entrance)
    entrances = tuple(
        (base, tuple(sorted(by_base[base], key=lambda e: e.route.chosen[0] == "path")))
        for base in sorted(by_base, key=len, reverse=True)
    )
    credentials = {c.key_hash: c for c in feed.credentials}
    return Snapshot(feed.number, credentials, access, stacks, feed.sandbox_keys, entrances)


class _Compiler:
    """Compiles grants for one environment; what grants have in common is compiled once."""

    def __init__(self, feed: Feed, environment: Environment) -> None:
        self.feed, self.environment = feed, environment
        self.where = zone(feed.time_zone)
        self.counting: dict[int, list[Counting]] = {}
        meters = {i: m for i, m in feed.meters.items() if environment in m.environments}
        for meter_id, meter in meters.items():
            for operation in meter.operations:
                self.counting.setdefault(int(operation), []).append(Counting(meter_id, meter))
        self.operations_of = {m.key: tuple(sorted(m.operations)) for m in meters.values()}
        self.house_names = frozenset(limit.name for limit in (*feed.provider_limits, *feed.api_limits))
        self.shared: dict[tuple[int, int], Stack] = {}
        self.policies: dict[tuple[int, str], Policies] = {}

    def stack(self, grant: Grant) -> Stack:
        """The limits of a grant, of all layers, in the order tested."""
        terms = self.feed.terms[grant.revision_id]
        origin = grant.started_us if _from_subscribing(terms) else 0
        known = self.shared.get((grant.revision_id, origin))
        if known is not None:
            return known
        layered = limits_of_a_plan(terms, self.operations_of, self.feed.provider_limits, self.feed.api_limits)
        limits = [each.limit for each in layered]
        scopes = [self.scope(grant.plan_id, each, origin) for each in layered]
        made = self.shared[grant.revision_id, origin] = Stack(limits, self.where, origin, scopes)
        return made

    def access(self, grant: Grant, stack: Stack, operation_id: int) -> Access:
        """What calls on one operation meet."""
        operation = str(operation_id)
        policies = self.policies.get((id(stack), operation))
        if policies is None:
            policies = Policies.of([c.limit for c in stack.applying(operation)])
            self.policies[id(stack), operation] = policies
        meters = tuple(self.counting.get(operation_id, ()))
        settles = any(c.meter.outcomes or c.meter.measure != "calls" for c in meters)
        reserves = 1 if any(c.meter.measure == "calls" for c in meters) else 0
        return Access(grant, stack, operation, meters, policies, settles, reserves, self.house_names)

    def scope(self, plan_id: int, layered: LayeredLimit, origin: int) -> str:
        """The count space of a limit: it outlives a new revision wherever the old count still has meaning."""
        limit = layered.limit
        owner = f"{plan_id}" if layered.layer in ("plan", "operation", "subscription") else layered.layer
        space = f"{owner}/{limit.name}" if self.environment == "live" else f"sandbox/{owner}/{limit.name}"
        if isinstance(limit, Quota):
            start = origin if limit.aligned == "subscription" else ""
            return f"{space}/{limit.kind}/{limit.every}/{start}"
        shape = f"{limit.calls}/{limit.per_seconds}" if isinstance(limit, Rate | Pace) else f"{limit.per_seconds}"
        rolling = getattr(limit, "rolling", "")
        return f"{space}/{limit.kind}/{shape}/{rolling}"


def _from_subscribing(terms: PlanTerms) -> bool:
    quotas = (limit for limit in (*terms.limits, *terms.overrides) if isinstance(limit, Quota))
    return any(quota.aligned == "subscription" for quota in quotas)
