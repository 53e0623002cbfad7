"""What a gateway must know to decide on calls, read from the database in a few queries."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass, field
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core.lifecycles import ANSWERING, CALLING
from calm_tariff.core.limits import Limit
from calm_tariff.core.meters import Meter as MeterRule
from calm_tariff.core.periods import instant_of
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services import house_limits, overrides, stamps, tokens
from calm_tariff.services.context import Context, provider_of
from calm_tariff.services.meters import rule_of
from calm_tariff.store import call_queries, usage_queries
from calm_tariff.store.admission import ApiKey, Application, Stay, Subscription
from calm_tariff.store.catalogue import ApiVersion, HouseLimits, Meter, Plan, PlanRevision, Product, ProductOperation
from calm_tariff.store.people import Consumer
from calm_tariff.store.record import Stamp
from calm_tariff.store.tokens import OutsideIssuer
from calm_tariff.store.usage import Call
from calm_tariff.store.usage_queries import Counted


@dataclass(frozen=True, slots=True)
class Forwarding:
    """How a version's back end is asked, as its owner set it. See `store.catalogue.ApiVersion`."""

    connect_ms: int = 3000
    answer_ms: int = 30_000
    most_body_bytes: int = 10_000_000
    cors_origins: frozenset[str] = frozenset()
    passes_caller: bool = False
    breaker_failures: int = 5
    breaker_seconds: int = 10


@dataclass(frozen=True, slots=True)
class Example:
    """An answer given in place of a back end's."""

    status: int
    content_type: str
    body: str


@dataclass(frozen=True, slots=True)
class Route:
    """An API version that answers, or did: where, chosen by what, from which back ends, and its
    operations (id, method, path). Instants are None where nothing is announced."""

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


@dataclass(frozen=True, slots=True)
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
    """How calls on a product prove who makes them, and which older fields its replies carry."""

    kinds: frozenset[str]
    key_header: str
    key_query: str
    older_fields: bool


@dataclass(frozen=True, slots=True)
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
    """A subscription that lets an application's calls through, under the revision in force now."""

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


@dataclass(frozen=True, slots=True)
class Feed:
    """Everything, consistent at one moment. `number` is the stamp it was read at.

    `provider_limits` and `api_limits` stand above all plans, named by their place.
    `sandbox_keys` are the ids of all keys of the sandbox, revoked ones too.
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
    sandbox_keys: frozenset[int]
    callers: tuple[Caller, ...] = ()
    products: dict[int, ProductRules] = field(default_factory=dict)
    overrides: dict[int, tuple[Limit, ...]] = field(default_factory=dict)
    issuers: tuple[Issuer, ...] = ()
    signing_keys: tuple[str, ...] = ()
    revoked_tokens: frozenset[str] = frozenset()


def read_feed(ctx: Context) -> Feed:
    """The present feed."""
    with ctx.transaction() as session:
        stamp = session.get(Stamp, stamps.SNAPSHOT)
        versions = session.scalars(
            select(ApiVersion).where(ApiVersion.state != "draft").options(selectinload(ApiVersion.operations))
        )
        routes = tuple(_route(v) for v in versions)
        grants = tuple(_grants(session, ctx.now))
        keys = (
            select(ApiKey.key_hash, ApiKey.id, ApiKey.application_id, Application.consumer_id, ApiKey.environment,
                   ApiKey.kind, ApiKey.state, ApiKey.starts_at, ApiKey.expires_at)
            .join(Application, Application.id == ApiKey.application_id)
        )  # fmt: skip
        credentials = tuple(
            Credential(*row[:7], _instant(row[7]), _instant(row[8])) for row in session.execute(keys)
        )  # fmt: skip
        used = {g.revision_id for g in grants}
        revisions = session.execute(select(PlanRevision.id, PlanRevision.terms).where(PlanRevision.id.in_(used)))
        sold: dict[int, set[int]] = {}
        for product, operation in session.execute(select(ProductOperation)):
            sold.setdefault(product, set()).add(operation)
        active = select(Meter).where(Meter.state == "active").options(selectinload(Meter.operations))
        sandbox = select(ApiKey.id).where(ApiKey.environment == "sandbox")
        return Feed(
            stamp.number if stamp else 0,
            provider_of(session).time_zone,
            routes,
            credentials,
            grants,
            {key: read(PlanTerms, terms) for key, terms in revisions},
            {meter.id: rule_of(meter) for meter in session.scalars(active)},
            {product: frozenset(operations) for product, operations in sold.items()},
            *_house(session, routes),
            frozenset(session.scalars(sandbox)),
            tuple(_callers(session)),
            {p.id: _rules(p) for p in session.scalars(select(Product))},
            overrides.in_force(session, ctx.now),
            tuple(_issuers(session)),
            tuple(tokens.public_keys(session)),
            tokens.revoked(session, ctx.now),
        )


def _instant(moment: datetime | None) -> int | None:
    return None if moment is None else instant_of(moment)


def _callers(session: Session) -> Iterator[Caller]:
    query = select(
        Application.id, Application.consumer_id, Application.client_id, Application.name, Consumer.name,
        Application.tags,
    ).join(Consumer, Consumer.id == Application.consumer_id)  # fmt: skip
    for application, consumer, client, name, organisation, tags in session.execute(query):
        yield Caller(application, consumer, client, name, organisation, tuple(sorted(tags.items())))


def _rules(product: Product) -> ProductRules:
    kinds = frozenset(product.credential_kinds)
    return ProductRules(kinds, product.key_header.lower(), product.key_query, product.older_fields)


def _issuers(session: Session) -> Iterator[Issuer]:
    for i in session.scalars(select(OutsideIssuer).where(OutsideIssuer.trusted)):
        yield Issuer(i.name, i.issuer, i.jwks_url, i.audience, tuple(i.algorithms), i.claim, i.environment)


def _house(session: Session, routes: tuple[Route, ...]) -> tuple[tuple[Limit, ...], tuple[Limit, ...]]:
    kept = {h.api_version_id: house_limits.limits_of(h) for h in session.scalars(select(HouseLimits))}
    api: list[Limit] = []
    for route in routes:
        operations = tuple(str(o) for o, _, _ in route.operations)
        api += house_limits.named_apart(kept.get(route.version_id, ()), route.name, operations)
    return house_limits.named_apart(kept.get(None, ()), "every API", None), tuple(api)


def _route(version: ApiVersion) -> Route:
    gone = version.state not in ANSWERING
    kept = () if gone else tuple(version.operations)
    operations = tuple((o.id, o.method, o.path) for o in kept)
    forwarding = Forwarding(
        version.connect_ms, version.answer_ms, version.most_body_bytes, frozenset(version.cors_origins),
        version.passes_caller, version.breaker_failures, version.breaker_seconds,
    )  # fmt: skip
    examples = tuple(
        (o.id, o.answers, Example(o.example["status"], o.example["type"], o.example["body"]))
        for o in kept
        if o.answers != "back end" and o.example
    )
    return Route(
        version.id, f"{version.api.name} {version.version}", version.base_path, version.back_end_url, operations,
        (version.chosen_by, version.chosen_name, version.chosen_value), version.sandbox_url, gone,
        _instant(version.deprecated_at), _instant(version.sunset_at), forwarding,
        tuple(tuple(o.groups) for o in kept), examples,
    )  # fmt: skip


def counted_since(
    ctx: Context, start_us: int, end_us: int, subscriptions: Collection[int] | None = None
) -> list[Counted]:
    """Everything counted in [start, end), or what these subscriptions counted, from which quota counts are rebuilt."""
    with ctx.transaction() as session:
        wanted = None if subscriptions is None else list(subscriptions)
        return list(usage_queries.counted_between(session, start_us, end_us, wanted))


def calls_since(ctx: Context, from_us: int, at_once: int = 20_000) -> Iterator[Call]:
    """Let-through calls from an instant on, oldest first, from which rates and windows are rebuilt."""
    with ctx.transaction() as session:
        place = (from_us, "")
        while chunk := call_queries.let_through_after(session, place, at_once):
            yield from chunk
            place = (chunk[-1].at_us, chunk[-1].call_id)
            session.expunge_all()  # what was replayed is not kept


def carrying_calls(ctx: Context, start_us: int, end_us: int) -> Iterator[Call]:
    """Let-through calls in [start, end) that carried a value some limit counts by."""
    with ctx.transaction() as session:
        yield from call_queries.carrying(session, start_us, end_us)


def _grants(session: Session, now: datetime) -> Iterator[Grant]:
    query = (
        select(
            Subscription.id, Subscription.application_id, Application.consumer_id, Product.id, Product.name, Plan.id,
            Plan.name, Stay.revision_id, Stay.id, Subscription.started_at,
        )
        .join(Stay, Stay.subscription_id == Subscription.id)
        .join(Application, Application.id == Subscription.application_id)
        .join(Plan, Plan.id == Subscription.plan_id)
        .join(Product, Product.id == Plan.product_id)
        .where(
            Subscription.state.in_(CALLING),
            Stay.start_at <= now,
            Stay.end_at.is_(None) | (Stay.end_at > now),
        )
        .order_by(Subscription.id)
    )  # fmt: skip
    for subscription, application, consumer, product, name, plan, called, revision, stay, since in session.execute(
        query
    ):
        yield Grant(
            subscription, application, consumer, product, name, plan, called, revision, stay, instant_of(since)
        )  # fmt: skip


@dataclass(frozen=True, slots=True)
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
                s.id, s.application_id, s.application.name, s.application.consumer_id, s.application.consumer.name,
                s.plan.product_id, s.plan_id, instant_of(s.started_at),
                tuple(_stay(stay) for stay in s.stays),
                tuple(keys.get(s.application_id, ())),
            )
            for s in session.scalars(query)
        ]  # fmt: skip


def _stay(stay: Stay) -> tuple[int, int, PlanTerms, int]:
    return stay.id, stay.revision_id, read(PlanTerms, stay.revision.terms), instant_of(stay.start_at)
