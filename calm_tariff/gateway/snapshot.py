"""All a gateway knows, compiled for deciding: swapped whole when something changes.

What one call needs is compiled when the first such call comes, so that a snapshot of many subscriptions is
ready at once; what was compiled stays for the snapshot's life.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass

from calm_tariff.core import counts, stays
from calm_tariff.core.counts import Names, Where, house_name
from calm_tariff.core.layers import Layer
from calm_tariff.core.limiter import Stack
from calm_tariff.core.limits import COUNTED_PER, TRIAL_NAME, Costs, Limit, Quota, memory_us, trial_quota
from calm_tariff.core.meters import ENVIRONMENTS, Environment, Meter, costs_of
from calm_tariff.core.periods import zone
from calm_tariff.core.stays import boundaries, holds
from calm_tariff.core.terms import PlanTerms, bound
from calm_tariff.formats import replies
from calm_tariff.formats.replies import Headers, Policies
from calm_tariff.gateway.routing import Match, Router
from calm_tariff.services.admit.tokens import scopes_of
from calm_tariff.services.serve.gateway_feed import (
    Caller,
    Credential,
    Example,
    Feed,
    Issuer,
    ProductRules,
    Route,
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


@dataclass(frozen=True, slots=True)
class _Found:
    """What calls meet in a stretch of time in which no terms begin or end; None where nothing lets them through."""

    start_us: int
    end_us: int | None
    access: Access | None


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


# What is kept of where paths lead, in characters of the paths: some 40 MB at most.
PLACES_KEPT = 2_000_000
# Little beside its path is kept with each.
PLACE_ITSELF = 200
LONGEST_PATH_KEPT = 1000


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
        self._feed = feed
        self._named = _Named(feed)
        self._compilers = {e: _Compiler(feed, e, self._named) for e in ENVIRONMENTS}
        self._grants: dict[int, list[Grant]] = {}
        self._stays: dict[int, list[Grant]] = {}
        for grant in feed.grants:
            self._grants.setdefault(grant.application_id, []).append(grant)
            self._stays.setdefault(grant.subscription_id, []).append(grant)
        self._access: dict[tuple[int, int, str, str], _Found] = {}
        self._places: dict[tuple[str, str], Place] = {}
        self._places_size = 0
        self._by_path_alone = all(route.chosen[0] == "path" for route in feed.routes)
        self._examples = {o: (where, answer) for r in feed.routes for o, where, answer in r.examples}
        self._groups = {o: r.groups[n] for r in feed.routes if r.groups for n, (o, _, _) in enumerate(r.operations)}
        self._entrances = _entrances(feed)

    def place(self, method: str, path: str, headers: Headers | tuple[()] = ()) -> Place | None:
        """Where a raw path leads; None where no API answers. Versions with the same base path are told
        apart by header or host; one chosen by the path alone takes what is left.

        Where nothing but the path chooses, what it leads to is kept for the next call there; but nothing of paths that
        lead nowhere, which cost whoever makes them up nothing.
        """
        if not self._by_path_alone:
            return self._sought(method, path, headers)
        key = (method, path)
        try:
            return self._places[key]
        except KeyError:
            found = self._sought(method, path, headers)
            if found is not None and found.match.operation_id is not None and len(path) <= LONGEST_PATH_KEPT:
                if self._places_size >= PLACES_KEPT:
                    self._places.clear()
                    self._places_size = 0
                self._places[key] = found
                self._places_size += len(path) + PLACE_ITSELF
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

    def access(
        self, application_id: int, operation_id: int, environment: Environment, credential: str, at_us: int
    ) -> Access | None:
        """What an application's calls on an operation meet at an instant; None where no subscription covers it.

        Where two of its subscriptions sell the operation, the older one serves it.
        """
        key = (application_id, operation_id, environment, credential)
        found = self._access.get(key)
        if found is None or not holds(found, at_us):
            found = self._access[key] = self._find(*key, at_us)
        return found.access

    def after(self, access: Access, environment: Environment, credential: str, at_us: int) -> Access | None:
        """What a call meets that comes after a trial whose units are used; None where nothing follows it."""
        following = stays.after(self._stays[access.grant.subscription_id], access.grant, at_us)
        if following is None:
            return None
        compiler = self._compilers[environment]
        return compiler.access(
            following, access.caller, int(access.operation), access.scopes, credential, following.start_us
        )

    def stack(self, subscription_id: int, environment: Environment, at_us: int) -> Stack | None:
        """A subscription's limits at an instant; None where it let no calls through."""
        grant = stays.in_force(self._stays.get(subscription_id, ()), at_us)
        return None if grant is None else self._compilers[environment].stack(grant, at_us)

    def stacks(self, since_us: int) -> Iterator[Stack]:
        """The limits of every grant that lets calls through after an instant, in both environments, each once."""
        seen: set[int] = set()
        for grant in self._feed.grants:
            if grant.end_us is not None and grant.end_us <= since_us:
                continue
            edges = self._named.edges(grant)
            for compiler in self._compilers.values():
                for at_us in edges:
                    stack = compiler.stack(grant, at_us)
                    if id(stack) not in seen:
                        seen.add(id(stack))
                        yield stack

    def memory_us(self) -> int:
        """How far back a call can still matter to a rate, window or pace that holds, held or will hold."""
        feed = self._feed
        limits = [*feed.provider_limits, *feed.api_limits]
        limits += [limit for terms in feed.terms.values() for limit in (*terms.limits, *terms.overrides)]
        limits += [each.limit for own in feed.overrides.values() for each in own]
        return max((memory_us(limit) for limit in limits if not isinstance(limit, Quota)), default=0)

    def example(self, operation_id: int, environment: str) -> Example | None:
        """The answer an operation gives by itself in an environment, if it does."""
        where, answer = self._examples.get(operation_id, ("", None))
        return answer if where == "example" or (where == "sandbox example" and environment == "sandbox") else None

    def _find(
        self, application_id: int, operation_id: int, environment: Environment, credential: str, at_us: int
    ) -> _Found:
        grants = self._grants.get(application_id, ())
        edges = sorted({at for grant in grants for at in self._named.edges(grant)} | stays.ends(grants))
        place = bisect_right(edges, at_us)
        start, end = edges[place - 1] if place else 0, edges[place] if place < len(edges) else None
        for grant in grants:
            if holds(grant, at_us) and operation_id in self._feed.sold.get(grant.product_id, ()):
                compiler = self._compilers[environment]
                scopes = scopes_of(self._groups.get(operation_id, ()))
                caller = self._callers[application_id]
                found = compiler.access(grant, caller, operation_id, scopes, credential, at_us)
                return _Found(start, end, found)
        return _Found(start, end, None)


def _entrances(feed: Feed) -> tuple[tuple[str, tuple[_Entrance, ...]], ...]:
    by_base: dict[str, list[_Entrance]] = {}
    for route in feed.routes:
        entrance = _Entrance(route, Router(route.operations), replies.ending(route.deprecated_us, route.sunset_us))
        by_base.setdefault(route.base_path, []).append(entrance)
    return tuple(
        (base, tuple(sorted(by_base[base], key=lambda e: e.route.chosen[0] == "path")))
        for base in sorted(by_base, key=len, reverse=True)
    )


class _Named:
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
        if not own:
            return [grant.start_us]
        inside = (at for at in boundaries(own) if holds(grant, at))
        return sorted({grant.start_us, *inside})

    def names(self, grant: Grant, at_us: int) -> Names | None:
        """The names of a grant's counts at an instant; None where all are plain, as with one stay and no override."""
        grants = self.of_consumer[grant.consumer_id]
        if len(grants) == 1 and grant.subscription_id not in self.feed.overrides:
            return None
        known = self._names.get(grant.consumer_id)
        if known is None:
            known = self._names[grant.consumer_id] = counts.names_of(
                histories(grants, self.feed.overrides, self.anew), self.plans, self.feed.terms
            )
        edges = self.edges(grant)
        return known[grant.subscription_id, edges[bisect_right(edges, at_us) - 1], grant.stay_id]


_Place = tuple[int, int, tuple[Limit, ...], tuple[tuple[str, str], ...], int]


class _Compiler:
    """Compiles grants for one environment; what grants have in common is compiled once."""

    def __init__(self, feed: Feed, environment: Environment, named: _Named) -> None:
        self.feed, self.environment, self.named = feed, environment, named
        self.where = zone(feed.time_zone)
        self.counting: dict[int, list[Counting]] = {}
        meters = {i: m for i, m in feed.meters.items() if environment in m.environments}
        for meter_id, meter in meters.items():
            for operation in meter.operations:
                self.counting.setdefault(int(operation), []).append(Counting(meter_id, meter))
        self.house = feed.house(environment)
        self.above = self.house.layers
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
            self.prefix + (house_name(e.layer, e.limit) if e.limit.name in self.above else names[e.limit.name])
            for e in layered
        ]
        if grant.free:
            limits[:0] = bound([trial_quota(grant.free.meter, grant.free.units)], self.house.counted_on)
            scopes[:0] = [f"trial/{grant.stay_id}"]
        made = self.shared[place] = Stack(limits, self.where, origin, scopes)
        return made

    def access(
        self, grant: Grant, caller: Caller, operation_id: int, scopes: frozenset[str], credential: str, at_us: int
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


EMPTY = Snapshot(
    Feed(
        number=-1,
        time_zone="UTC",
        routes=(),
        credentials=(),
        grants=(),
        terms={},
        meters={},
        sold={},
        provider_limits=(),
        api_limits=(),
    )
)
