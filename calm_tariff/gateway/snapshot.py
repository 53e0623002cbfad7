"""All a gateway knows, compiled for deciding: swapped whole when something changes.

What one call needs is compiled when the first such call comes, so that a snapshot of many subscriptions is
ready at once; what was compiled stays for the snapshot's life.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from calm_tariff.core.layers import Layer, LayeredLimit, limits_of_a_plan
from calm_tariff.core.limiter import Stack
from calm_tariff.core.limits import COUNTED_PER, Limit, Pace, Quota, Rate
from calm_tariff.core.meters import Environment, Meter, reserved
from calm_tariff.core.periods import zone
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats import replies
from calm_tariff.formats.replies import Headers, Policies
from calm_tariff.gateway.routing import Match, Router
from calm_tariff.services.gateway_feed import (
    Caller,
    Credential,
    Example,
    Feed,
    Grant,
    Issuer,
    ProductRules,
    Route,
)
from calm_tariff.services.tokens import scopes_of


@dataclass(frozen=True, slots=True)
class Counting:
    """A meter that may count an operation's calls."""

    meter_id: int
    meter: Meter


@dataclass(frozen=True, slots=True)
class Access:
    """What a call on one operation meets under one grant.

    `reserves` is its cost against quotas until the response is in; `above` names the limits that no plan
    revision keeps, with the layer they come from, which receipts therefore keep whole. `wants` are the
    values calls are counted by that the call itself carries: `claim:…`, `header:…`, `address`.
    """

    grant: Grant
    stack: Stack
    operation: str
    meters: tuple[Counting, ...]
    policies: Policies
    settles: bool
    reserves: int
    above: dict[str, Layer]
    wants: tuple[str, ...]
    rules: ProductRules
    caller: Caller
    scopes: frozenset[str]


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


PLACES_KEPT = 20_000


class Snapshot:
    """Routes, credentials by hash, callers by client id, and what calls meet.

    `number` is the stamp of the feed it was compiled from; -1 where there is none yet. `key_headers` and
    `key_queries` are where any product lets a key come.
    """

    def __init__(self, feed: Feed) -> None:
        self.number = feed.number
        self.credentials: dict[str, Credential] = {c.key_hash: c for c in feed.credentials}
        self.secrets: dict[int, Credential] = {c.key_id: c for c in feed.credentials if c.kind == "secret"}
        self.clients: dict[str, Caller] = {c.client_id: c for c in feed.callers}
        self.key_headers = frozenset(rules.key_header.encode() for rules in feed.products.values())
        self.key_queries = frozenset(rules.key_query for rules in feed.products.values() if rules.key_query)
        self.issuers: dict[str, Issuer] = {i.issuer: i for i in feed.issuers}
        self.signing_keys = feed.signing_keys
        self.revoked_tokens = feed.revoked_tokens
        self._callers = {c.application_id: c for c in feed.callers}
        self._sandbox_keys = feed.sandbox_keys
        self._feed = feed
        self._compilers = {"live": _Compiler(feed, "live"), "sandbox": _Compiler(feed, "sandbox")}
        self._grants: dict[int, list[Grant]] = {}
        self._by_subscription: dict[int, Grant] = {}
        for grant in feed.grants:
            self._grants.setdefault(grant.application_id, []).append(grant)
            self._by_subscription[grant.subscription_id] = grant
        self._access: dict[tuple[int, int, str], Access | None] = {}
        self._places: dict[tuple[str, str], Place | None] = {}
        self._by_path_alone = all(route.chosen[0] == "path" for route in feed.routes)
        self._examples = {o: (where, answer) for r in feed.routes for o, where, answer in r.examples}
        self._groups = {o: r.groups[n] for r in feed.routes if r.groups for n, (o, _, _) in enumerate(r.operations)}
        self._entrances = _entrances(feed)

    def place(self, method: str, path: str, headers: Headers | tuple[()] = ()) -> Place | None:
        """Where a raw path leads; None where no API answers. Versions with the same base path are told
        apart by header or host; one chosen by the path alone takes what is left.

        Where nothing but the path chooses, what it leads to is kept for the next call there.
        """
        if not self._by_path_alone:
            return self._sought(method, path, headers)
        key = (method, path)
        try:
            return self._places[key]
        except KeyError:
            if len(self._places) >= PLACES_KEPT:
                self._places.clear()
            found = self._places[key] = self._sought(method, path, headers)
            return found

    def _sought(self, method: str, path: str, headers: Headers | tuple[()]) -> Place | None:
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

    def access(self, application_id: int, operation_id: int, environment: str) -> Access | None:
        """What an application's calls on an operation meet; None where no subscription covers it.

        Where two of its subscriptions sell the operation, the older one serves it.
        """
        key = (application_id, operation_id, environment)
        if key not in self._access:
            self._access[key] = self._find(*key)
        return self._access[key]

    def stack(self, subscription_id: int, environment: str) -> tuple[Grant, Stack] | None:
        """A subscription's grant and its limits; None where it lets no calls through."""
        grant = self._by_subscription.get(subscription_id)
        return None if grant is None else (grant, self._compilers[environment].stack(grant))

    def held(self) -> Iterator[tuple[Grant, Stack]]:
        """The limits of every grant, in both environments; grants may share a stack."""
        for compiler in self._compilers.values():
            for grant in self._feed.grants:
                yield grant, compiler.stack(grant)

    def stacks(self) -> Iterator[tuple[Grant, Stack]]:
        """The same, but a stack that grants share comes once."""
        seen: set[int] = set()
        for grant, stack in self.held():
            if id(stack) not in seen:
                seen.add(id(stack))
                yield grant, stack

    def meter_keys(self) -> dict[int, str]:
        """The keys of all active meters by id."""
        return {meter_id: meter.key for meter_id, meter in self._feed.meters.items()}

    def example(self, operation_id: int, environment: str) -> Example | None:
        """The answer an operation gives by itself in an environment, if it does."""
        where, answer = self._examples.get(operation_id, ("", None))
        return answer if where == "example" or (where == "sandbox example" and environment == "sandbox") else None

    def environment_of(self, key_id: int) -> Environment:
        """The environment a recorded call's key belongs to."""
        return "sandbox" if key_id in self._sandbox_keys else "live"

    def _find(self, application_id: int, operation_id: int, environment: str) -> Access | None:
        for grant in self._grants.get(application_id, ()):
            if operation_id in self._feed.sold.get(grant.product_id, ()):
                compiler = self._compilers[environment]
                scopes = scopes_of(self._groups.get(operation_id, ()))
                return compiler.access(grant, self._callers[application_id], operation_id, scopes)
        return None


def _entrances(feed: Feed) -> tuple[tuple[str, tuple[_Entrance, ...]], ...]:
    by_base: dict[str, list[_Entrance]] = {}
    for route in feed.routes:
        entrance = _Entrance(route, Router(route.operations), replies.ending(route.deprecated_us, route.sunset_us))
        by_base.setdefault(route.base_path, []).append(entrance)
    return tuple(
        (base, tuple(sorted(by_base[base], key=lambda e: e.route.chosen[0] == "path")))
        for base in sorted(by_base, key=len, reverse=True)
    )


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
        self.house: dict[str, Layer] = {limit.name: "provider" for limit in feed.provider_limits}
        self.house |= {limit.name: "api" for limit in feed.api_limits}
        self.shared: dict[tuple[int, int, int], Stack] = {}
        self.policies: dict[tuple[int, str], Policies] = {}

    def stack(self, grant: Grant) -> Stack:
        """The limits of a grant, of all layers, in the order tested."""
        terms = self.feed.terms[grant.revision_id]
        own = self.feed.overrides.get(grant.subscription_id, ())
        origin = grant.started_us if _from_subscribing(terms, own) else 0
        place = (grant.revision_id, origin, grant.subscription_id if own else 0)
        known = self.shared.get(place)
        if known is not None:
            return known
        above = self.feed.provider_limits, self.feed.api_limits
        layered = limits_of_a_plan(terms, self.operations_of, *above, subscription=own)
        limits = [each.limit for each in layered]
        scopes = [scope(grant.plan_id, each, origin, self.environment) for each in layered]
        made = self.shared[place] = Stack(limits, self.where, origin, scopes)
        return made

    def access(self, grant: Grant, caller: Caller, operation_id: int, scopes: frozenset[str]) -> Access:
        """What calls on one operation meet."""
        operation = str(operation_id)
        stack = self.stack(grant)
        applying = [c.limit for c in stack.applying(operation)]
        policies = self.policies.get((id(stack), operation))
        if policies is None:
            policies = self.policies[id(stack), operation] = Policies.of(applying)
        meters = tuple(self.counting.get(operation_id, ()))
        reserves, settles = reserved([c.meter for c in meters])
        above = self.house
        own = self.feed.overrides.get(grant.subscription_id)
        if own:
            above = {**above, **{limit.name: "subscription" for limit in own}}
        wants = tuple(dict.fromkeys(x.counted_per for x in applying if x.counted_per not in COUNTED_PER))
        rules = self.feed.products[grant.product_id]
        return Access(
            grant, stack, operation, meters, policies, settles, reserves, above, wants, rules, caller, scopes
        )  # fmt: skip


def scope(plan_id: int, layered: LayeredLimit, origin: int, environment: str) -> str:
    """The count space of a limit: it outlives a new revision or an override wherever the old count still has
    meaning."""
    limit = layered.limit
    owner = f"{plan_id}" if layered.layer in ("plan", "operation", "subscription") else layered.layer
    space = f"{owner}/{limit.name}" if environment == "live" else f"sandbox/{owner}/{limit.name}"
    if isinstance(limit, Quota):
        start = origin if limit.aligned == "subscription" else ""
        return f"{space}/{limit.kind}/{limit.every}/{start}"
    shape = f"{limit.calls}/{limit.per_seconds}" if isinstance(limit, Rate | Pace) else f"{limit.per_seconds}"
    rolling = getattr(limit, "rolling", "")
    return f"{space}/{limit.kind}/{shape}/{rolling}"


def _from_subscribing(terms: PlanTerms, own: tuple[Limit, ...]) -> bool:
    quotas = (limit for limit in (*terms.limits, *terms.overrides, *own) if isinstance(limit, Quota))
    return any(quota.aligned == "subscription" for quota in quotas)


EMPTY = Snapshot(Feed(-1, "UTC", (), (), (), {}, {}, {}, (), (), frozenset()))
