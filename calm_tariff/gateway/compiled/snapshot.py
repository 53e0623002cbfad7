"""All a gateway knows, compiled for deciding: swapped whole when something changes.

What one call needs is compiled when the first such call comes, so that a snapshot of many subscriptions is
ready at once; what was compiled stays for the snapshot's life.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass

from calm_tariff.core import stays
from calm_tariff.core.limiter import Stack
from calm_tariff.core.limits import Quota, memory_us
from calm_tariff.core.meters import ENVIRONMENTS, Environment
from calm_tariff.core.paths import Match, Router
from calm_tariff.core.stays import holds
from calm_tariff.formats import replies
from calm_tariff.formats.replies import Headers
from calm_tariff.gateway.compiled.compiling import Access, Compiler, CountNames
from calm_tariff.services.admit.tokens import scopes_of
from calm_tariff.services.serve.gateway_feed import (
    Caller,
    Credential,
    Example,
    Feed,
    Issuer,
    Route,
)
from calm_tariff.services.serve.grants import STRANGER, TRYING, Grant


@dataclass(frozen=True, slots=True)
class _Found:
    """What calls meet in a stretch of time in which no terms begin or end; None where nothing lets them through, and
    whether that is for a pause."""

    start_us: int
    end_us: int | None
    access: Access | None
    paused: bool = False


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
        self.key_headers = frozenset(rules.key_header.encode() for rules in feed.products.values() if rules.key_header)
        self.key_queries = frozenset(rules.key_query for rules in feed.products.values() if rules.key_query)
        self.issuers: dict[str, Issuer] = {i.issuer: i for i in feed.issuers}
        self.signing_keys = feed.signing_keys
        self.revoked_tokens = feed.revoked_tokens
        self._callers = {c.application_id: c for c in (*feed.callers, *_NOBODY)}
        self._suspensions, self._unpaid = feed.suspensions, feed.payment_pauses
        self._feed = feed
        self._named = CountNames(feed)
        self._compilers = {e: Compiler(feed, e, self._named) for e in ENVIRONMENTS}
        self._grants: dict[int, list[Grant]] = {}
        self._stays: dict[int, list[Grant]] = {}
        for grant in feed.grants:
            self._grants.setdefault(grant.application_id, []).append(grant)
            self._stays.setdefault(grant.subscription_id, []).append(grant)
        for grant in feed.strangers:
            self._grants.setdefault(grant.application_id, []).append(grant)
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
        return self._known(application_id, operation_id, environment, credential, at_us).access

    def paused(
        self, application_id: int, operation_id: int, environment: Environment, credential: str, at_us: int
    ) -> bool:
        """Whether an application's calls on an operation are let through by nothing because a subscription rests."""
        return self._known(application_id, operation_id, environment, credential, at_us).paused

    def suspended(self, consumer_id: int, at_us: int) -> bool:
        """Whether no call of a consumer is let through at an instant, by the provider's word."""
        stretches = self._suspensions.get(consumer_id)
        return stretches is not None and stays.in_force(stretches, at_us) is not None

    def unpaid(self, consumer_id: int, at_us: int) -> bool:
        """Whether no call of a consumer is let through at an instant because an invoice is not paid."""
        stretches = self._unpaid.get(consumer_id)
        return stretches is not None and stays.in_force(stretches, at_us) is not None

    def _known(
        self, application_id: int, operation_id: int, environment: Environment, credential: str, at_us: int
    ) -> _Found:
        key = (application_id, operation_id, environment, credential)
        found = self._access.get(key)
        if found is None or not holds(found, at_us):
            found = self._access[key] = self._find(*key, at_us)
        return found

    def after(self, access: Access, environment: Environment, credential: str, at_us: int) -> Access | None:
        """What a call meets that comes after a trial whose units are used; None where nothing follows it."""
        following = stays.after(self._stays[access.grant.subscription_id], access.grant, at_us)
        if following is None:
            return None
        compiler = self._compilers[environment]
        return compiler.access(
            following,
            at_us=following.start_us,
            caller=access.caller,
            operation_id=int(access.operation),
            scopes=access.scopes,
            credential=credential,
        )

    def stack(self, subscription_id: int, environment: Environment, at_us: int) -> Stack | None:
        """A subscription's limits at an instant; None where it let no calls through."""
        grant = stays.in_force(self._stays.get(subscription_id, ()), at_us)
        return None if grant is None else self._compilers[environment].stack(grant, at_us)

    def stacks(self, since_us: int) -> Iterator[Stack]:
        """The limits of every grant that lets calls through after an instant, in both environments, each once."""
        seen: set[int] = set()
        for grant in (*self._feed.grants, *self._feed.strangers):
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
        rests = [pause for g in grants for pause in self._feed.pauses.get(g.subscription_id, ())]
        begun = {at for grant in grants for at in self._named.edges(grant)}
        edges = sorted(begun | stays.ends(grants) | set(stays.boundaries(rests)))
        place = bisect_right(edges, at_us)
        start, end = edges[place - 1] if place else 0, edges[place] if place < len(edges) else None
        paused = False
        for grant in grants:
            if holds(grant, at_us) and operation_id in self._feed.sold.get(grant.product_id, ()):
                if stays.in_force(self._feed.pauses.get(grant.subscription_id, ()), at_us):
                    paused = True
                    continue
                compiler = self._compilers[environment]
                found = compiler.access(
                    grant,
                    at_us=at_us,
                    caller=self._callers[application_id],
                    operation_id=operation_id,
                    scopes=scopes_of(self._groups.get(operation_id, ())),
                    credential=credential,
                )
                return _Found(start, end, found)
        return _Found(start, end, None, paused)


_NOBODY = tuple(
    Caller(application_id=each, consumer_id=0, client_id="", name="", consumer="", tags=())
    for each in (STRANGER, TRYING)
)


def _entrances(feed: Feed) -> tuple[tuple[str, tuple[_Entrance, ...]], ...]:
    by_base: dict[str, list[_Entrance]] = {}
    for route in feed.routes:
        entrance = _Entrance(route, Router(route.operations), replies.ending(route.deprecated_us, route.sunset_us))
        by_base.setdefault(route.base_path, []).append(entrance)
    return tuple(
        (base, tuple(sorted(by_base[base], key=lambda e: e.route.chosen[0] == "path")))
        for base in sorted(by_base, key=len, reverse=True)
    )


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
