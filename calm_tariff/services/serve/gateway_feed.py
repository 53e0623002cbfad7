"""What a gateway must know to decide on calls, read from the database in a few queries."""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime
from heapq import heappop, heappush

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core.counts import History, Override
from calm_tariff.core.layers import House, counted_on
from calm_tariff.core.lifecycles import ANSWERING
from calm_tariff.core.limits import Limit
from calm_tariff.core.meters import Environment
from calm_tariff.core.meters import Meter as MeterRule
from calm_tariff.core.periods import SECOND, instant_of
from calm_tariff.core.stays import Stay as StayRule
from calm_tariff.core.stays import TrialUnits
from calm_tariff.core.terms import PlanTerms, free_units
from calm_tariff.formats.values import read
from calm_tariff.services.admit import overrides, tokens
from calm_tariff.services.base import stamps
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.services.compose import back_ends, house_limits
from calm_tariff.services.compose.meters import rule_of
from calm_tariff.store.admit.applications import ApiKey, Application
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from calm_tariff.store.base.record import Stamp
from calm_tariff.store.compose.apis import ApiVersion
from calm_tariff.store.compose.issuers import OutsideIssuer
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan, PlanRevision, Product, ProductOperation
from calm_tariff.store.serve import call_queries, quota_queries
from calm_tariff.store.serve.usage import Call, QuotaCount

# How far the order in which calls came and that in which they were decided may lie apart: a call waits no longer for
# its count.
APART_US = 10 * SECOND


@dataclass(frozen=True, slots=True, kw_only=True)
class Forwarding:
    """How a version's back end is asked, as its owner set it. See `store.catalogue.ApiVersion`."""

    connect_ms: int = 3000
    answer_ms: int = 30_000
    most_body_bytes: int = 10_000_000
    cors_origins: frozenset[str] = frozenset()
    passes_caller: bool = False
    breaker_failures: int = 5
    breaker_seconds: int = 10
    lets_through: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True)
class Example:
    """An answer given in place of a back end's."""

    status: int
    content_type: str
    body: str


@dataclass(frozen=True, slots=True)
class Route:
    """An API version that answers, or did: where, chosen by what, from which back ends, and its
    operations (id, method, path). Instants are None where nothing is announced. The logins are what the Authorization
    field says to a back end, if anything."""

    version_id: int
    name: str
    base_path: str
    back_end_url: str
    operations: tuple[tuple[int, str, str], ...]
    chosen: tuple[str, str, str] = ("path", "", "")
    sandbox_url: str = ""
    gone: bool = False
    deprecated_us: int | None = None
    sunset_us: int | None = None
    forwarding: Forwarding = Forwarding()
    groups: tuple[tuple[str, ...], ...] = ()
    examples: tuple[tuple[int, str, Example], ...] = ()
    login: str = field(default="", repr=False)
    sandbox_login: str = field(default="", repr=False)

    def gone_at(self, at_us: int) -> bool:
        """Whether it answers no more at an instant: its last day may have passed with nobody awake to say so."""
        return self.gone or (self.sunset_us is not None and at_us >= self.sunset_us)


@dataclass(frozen=True, slots=True)
class Credential:
    """A key or secret by the hash it is looked up with; also one that is no longer or not yet good, so that
    its caller can be told which. Instants are None where nothing bounds it."""

    key_hash: str
    key_id: int
    application_id: int
    consumer_id: int
    environment: str
    kind: str = "key"
    state: str = "active"
    starts_us: int | None = None
    expires_us: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Caller:
    """An application as back ends may be told of it, and as tokens name it."""

    application_id: int
    consumer_id: int
    client_id: str
    name: str
    consumer: str
    tags: tuple[tuple[str, str], ...]


@dataclass(frozen=True, slots=True)
class ProductRules:
    """How calls on a product prove who makes them, which older fields its replies carry, and whether allowances
    start anew over a move of plan."""

    kinds: frozenset[str]
    key_header: str
    key_query: str
    older_fields: bool
    moves_anew: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Issuer:
    """An outside issuer whose tokens are credentials."""

    name: str
    issuer: str
    jwks_url: str
    audience: str
    algorithms: tuple[str, ...]
    claim: str
    environment: str


@dataclass(frozen=True, slots=True)
class Grant:
    """A stay of a subscription, past, present or to come: it lets an application's calls through from `start_us`
    until `end_us`. `started_us` is when the subscription began; `free` what ends a trial early; `due_us` marks one that
    follows such a trial."""

    subscription_id: int
    application_id: int
    consumer_id: int
    product_id: int
    product: str
    plan_id: int
    plan: str
    revision_id: int
    stay_id: int
    started_us: int
    start_us: int = 0
    end_us: int | None = None
    trial: bool = False
    free: TrialUnits | None = None
    due_us: int | None = None


@dataclass(frozen=True, slots=True)
class Feed:
    """Everything, consistent at one moment. `number` is the stamp it was read at.

    `provider_limits` and `api_limits` stand above all plans, named by their place.
    """

    number: int
    time_zone: str
    routes: tuple[Route, ...]
    credentials: tuple[Credential, ...]
    grants: tuple[Grant, ...]
    terms: dict[int, PlanTerms]
    meters: dict[int, MeterRule]
    sold: dict[int, frozenset[int]]
    provider_limits: tuple[Limit, ...]
    api_limits: tuple[Limit, ...]
    callers: tuple[Caller, ...] = ()
    products: dict[int, ProductRules] = field(default_factory=dict)
    overrides: dict[int, tuple[Override, ...]] = field(default_factory=dict)
    issuers: tuple[Issuer, ...] = ()
    signing_keys: tuple[str, ...] = ()
    revoked_tokens: frozenset[str] = frozenset()

    def house(self, environment: Environment) -> House:
        """What holds besides a plan for calls of an environment."""
        return House(
            provider=self.provider_limits,
            api=self.api_limits,
            counted_on=counted_on(self.meters.values(), environment),
        )


def read_feed(ctx: Context) -> Feed:
    """The present feed."""
    with ctx.transaction() as session:
        stamp = session.get(Stamp, stamps.SNAPSHOT)
        versions = session.scalars(
            select(ApiVersion).where(ApiVersion.state != "draft").options(selectinload(ApiVersion.operations))
        )
        routes = tuple(_route(ctx, v) for v in versions)
        found = tuple(grants(session))
        keys = select(
            ApiKey.key_hash,
            ApiKey.id,
            ApiKey.application_id,
            Application.consumer_id,
            ApiKey.environment,
            ApiKey.kind,
            ApiKey.state,
            ApiKey.starts_at,
            ApiKey.expires_at,
        ).join(Application, Application.id == ApiKey.application_id)
        credentials = tuple(Credential(*row[:7], _instant(row[7]), _instant(row[8])) for row in session.execute(keys))
        used = {g.revision_id for g in found}
        revisions = session.execute(select(PlanRevision.id, PlanRevision.terms).where(PlanRevision.id.in_(used)))
        terms = {key: read(PlanTerms, raw) for key, raw in revisions}
        sold: dict[int, set[int]] = {}
        for product, operation in session.execute(select(ProductOperation)):
            sold.setdefault(product, set()).add(operation)
        active = select(Meter).where(Meter.state == "active").options(selectinload(Meter.operations))
        return Feed(
            stamp.number if stamp else 0,
            provider_of(session).time_zone,
            routes,
            credentials,
            tuple(_freed(grant, terms) for grant in found),
            terms,
            {meter.id: rule_of(meter) for meter in session.scalars(active)},
            {product: frozenset(operations) for product, operations in sold.items()},
            *house_limits.above_plans(session),
            tuple(_callers(session)),
            {p.id: _rules(p) for p in session.scalars(select(Product))},
            overrides.of_all(session),
            tuple(_issuers(session)),
            tuple(tokens.public_keys(session)),
            tokens.revoked(session, ctx.now),
        )


def _instant(moment: datetime | None) -> int | None:
    return None if moment is None else instant_of(moment)


def _callers(session: Session) -> Iterator[Caller]:
    query = select(
        Application.id,
        Application.consumer_id,
        Application.client_id,
        Application.name,
        Consumer.name,
        Application.tags,
    ).join(Consumer, Consumer.id == Application.consumer_id)
    for application, consumer, client, name, organisation, tags in session.execute(query):
        yield Caller(
            application_id=application,
            consumer_id=consumer,
            client_id=client,
            name=name,
            consumer=organisation,
            tags=tuple(sorted(tags.items())),
        )


def _rules(product: Product) -> ProductRules:
    kinds = frozenset(product.credential_kinds)
    return ProductRules(kinds, product.key_header.lower(), product.key_query, product.older_fields, product.moves_anew)


def _issuers(session: Session) -> Iterator[Issuer]:
    for i in session.scalars(select(OutsideIssuer).where(OutsideIssuer.trusted)):
        yield Issuer(
            name=i.name,
            issuer=i.issuer,
            jwks_url=i.jwks_url,
            audience=i.audience,
            algorithms=tuple(i.algorithms),
            claim=i.claim,
            environment=i.environment,
        )


def _route(ctx: Context, version: ApiVersion) -> Route:
    gone = version.state not in ANSWERING
    kept = () if gone else tuple(version.operations)
    operations = tuple((o.id, o.method, o.path) for o in kept)
    forwarding = Forwarding(
        connect_ms=version.connect_ms,
        answer_ms=version.answer_ms,
        most_body_bytes=version.most_body_bytes,
        cors_origins=frozenset(version.cors_origins),
        passes_caller=version.passes_caller,
        breaker_failures=version.breaker_failures,
        breaker_seconds=version.breaker_seconds,
        lets_through=frozenset(version.lets_through),
    )
    examples = tuple(
        (o.id, o.answers, Example(o.example["status"], o.example["type"], o.example["body"]))
        for o in kept
        if o.answers != "back end" and o.example
    )
    return Route(
        version_id=version.id,
        name=f"{version.api.name} {version.version}",
        base_path=version.base_path,
        back_end_url=version.back_end_url,
        operations=operations,
        chosen=(version.chosen_by, version.chosen_name, version.chosen_value),
        sandbox_url=version.sandbox_url,
        gone=gone,
        deprecated_us=_instant(version.deprecated_at),
        sunset_us=_instant(version.sunset_at),
        forwarding=forwarding,
        groups=tuple(tuple(o.groups) for o in kept),
        examples=examples,
        login=back_ends.opened(ctx, version.back_end_login),
        sandbox_login=back_ends.opened(ctx, version.sandbox_login),
    )


def open_quotas(ctx: Context, now_us: int) -> list[QuotaCount]:
    """What quotas have let in, in the windows that are open at an instant."""
    with ctx.transaction() as session:
        return list(quota_queries.open_at(session, now_us))


def calls_since(ctx: Context, from_us: int, at_once: int = 20_000) -> Iterator[Call]:
    """Let-through calls from an instant on in the order they were decided, from which rates and windows are rebuilt.

    Read in the order they came, which the order of decisions follows within `APART_US`.
    """
    waiting: list[tuple[int, int, str, Call]] = []
    with ctx.transaction() as session:
        place = (from_us, "")
        while chunk := call_queries.let_through_after(session, place, at_once):
            for call in chunk:
                heappush(waiting, (call.decided_us or call.at_us, call.decided_order, call.call_id, call))
            place = (chunk[-1].at_us, chunk[-1].call_id)
            session.expunge_all()  # what was replayed is not kept
            while waiting and waiting[0][0] < place[0] - APART_US:
                yield heappop(waiting)[3]
    while waiting:
        yield heappop(waiting)[3]


def grants(session: Session, consumer_id: int | None = None) -> Iterator[Grant]:
    """Every stay of every subscription that is not paused, or of one consumer's: past ones, because counts are named
    by them; those to come, because nobody may be awake when they begin."""
    query = (
        select(
            Subscription.id,
            Subscription.application_id,
            Application.consumer_id,
            Product.id,
            Product.name,
            Plan.id,
            Plan.name,
            Stay.revision_id,
            Stay.id,
            Subscription.started_at,
            Subscription.ended_at,
            Stay.start_at,
            Stay.end_at,
            Stay.trial,
            Stay.due_at,
        )
        .join(Stay, Stay.subscription_id == Subscription.id)
        .join(Application, Application.id == Subscription.application_id)
        .join(PlanRevision, PlanRevision.id == Stay.revision_id)
        .join(Plan, Plan.id == PlanRevision.plan_id)
        .join(Product, Product.id == Plan.product_id)
        .where(Subscription.state != "paused")
        .order_by(Subscription.id, Stay.start_at, Stay.id)
    )
    if consumer_id is not None:
        query = query.where(Application.consumer_id == consumer_id)
    for row in session.execute(query):
        since, ended, start, end, trial, due = row[9:]
        until = min((moment for moment in (ended, end) if moment), default=None)
        if until is None or start < until or (due is not None and start == until):
            yield Grant(*row[:9], instant_of(since), instant_of(start), _instant(until), trial, due_us=_instant(due))


def histories(
    of: Iterable[Grant], overrides: Mapping[int, tuple[Override, ...]], anew: Container[int]
) -> Iterator[History]:
    """Grants as histories of their subscriptions; `anew` are the products whose allowances start anew over a move."""
    by_subscription: dict[int, list[Grant]] = {}
    for grant in of:
        by_subscription.setdefault(grant.subscription_id, []).append(grant)
    for subscription, own in by_subscription.items():
        first = own[0]
        spans = (StayRule(id=g.stay_id, revision_id=g.revision_id, start_us=g.start_us, end_us=g.end_us) for g in own)
        yield History(
            subscription_id=subscription,
            application_id=first.application_id,
            consumer_id=first.consumer_id,
            started_us=first.started_us,
            stays=tuple(spans),
            overrides=overrides.get(subscription, ()),
            anew=first.product_id in anew,
        )


def _freed(grant: Grant, terms: Mapping[int, PlanTerms]) -> Grant:
    """A trial with the units that end it."""
    free = free_units(terms[grant.revision_id]) if grant.trial else None
    return grant if free is None else replace(grant, free=free)


@dataclass(frozen=True, slots=True, kw_only=True)
class SubscriptionHistory:
    """A subscription with all its stays, as (id, revision id, terms, start µs), and its keys."""

    subscription_id: int
    application_id: int
    application: str
    consumer_id: int
    consumer: str
    product_id: int
    plan_id: int
    started_us: int
    stays: tuple[tuple[int, int, PlanTerms, int], ...]
    keys: tuple[int, ...]


def every_stay(ctx: Context) -> list[SubscriptionHistory]:
    """All subscriptions with their whole history, for replaying calls against the terms of the time."""
    with ctx.transaction() as session:
        query = select(Subscription).options(selectinload(Subscription.stays)).order_by(Subscription.id)
        keys: dict[int, list[int]] = {}
        for application, key in session.execute(select(ApiKey.application_id, ApiKey.id).order_by(ApiKey.id)):
            keys.setdefault(application, []).append(key)
        return [
            SubscriptionHistory(
                subscription_id=s.id,
                application_id=s.application_id,
                application=s.application.name,
                consumer_id=s.application.consumer_id,
                consumer=s.application.consumer.name,
                product_id=s.plan.product_id,
                plan_id=s.plan_id,
                started_us=instant_of(s.started_at),
                stays=tuple(_stay(stay) for stay in s.stays),
                keys=tuple(keys.get(s.application_id, ())),
            )
            for s in session.scalars(query)
        ]


def _stay(stay: Stay) -> tuple[int, int, PlanTerms, int]:
    return stay.id, stay.revision_id, read(PlanTerms, stay.revision.terms), instant_of(stay.start_at)
