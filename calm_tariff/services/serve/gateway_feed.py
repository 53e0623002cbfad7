"""What a gateway must know to decide on calls, read from the database in a few queries."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core import bounds
from calm_tariff.core import strangers as rules_of_strangers
from calm_tariff.core.bounds import Bounds
from calm_tariff.core.counts import Override
from calm_tariff.core.layers import House, counted_on
from calm_tariff.core.lifecycles import ANSWERING
from calm_tariff.core.limits import Limit
from calm_tariff.core.meters import Environment
from calm_tariff.core.meters import Meter as MeterRule
from calm_tariff.core.periods import instant_if_any
from calm_tariff.core.stays import Pause
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.admit import overrides, payment_pauses, suspending, timelines, tokens
from calm_tariff.services.admit.portals import serving
from calm_tariff.services.base import stamps
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.services.compose import house_limits
from calm_tariff.services.compose.apis import back_ends
from calm_tariff.services.compose.meters import rule_of
from calm_tariff.services.serve import grants
from calm_tariff.services.serve.grants import Grant
from calm_tariff.store.admit.applications import ApiKey, Application
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.record import Stamp
from calm_tariff.store.compose.apis import ApiVersion
from calm_tariff.store.compose.issuers import OutsideIssuer
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import PlanRevision, Product, ProductOperation


@dataclass(frozen=True, slots=True, kw_only=True)
class Forwarding:
    """How a version's back end is asked, as its owner set it. See `services.compose.apis.views.ForwardingTyped`.
    `portal_origins` are those of the pages on which calls are tried."""

    connect_ms: int = 3000
    answer_ms: int = 30_000
    most_body_bytes: int = 10_000_000
    cors_origins: frozenset[str] = frozenset()
    portal_origins: frozenset[str] = frozenset()
    passes_caller: bool = False
    breaker_failures: int = 5
    breaker_seconds: int = 10
    lets_through: frozenset[str] = frozenset()
    kept_headers: frozenset[str] = frozenset()
    keeps_bodies: bool = False


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
    its caller can be told which. Instants and `bounds` are None where nothing bounds it."""

    key_hash: str
    key_id: int
    application_id: int
    consumer_id: int
    environment: str
    kind: str = "key"
    state: str = "active"
    starts_us: int | None = None
    expires_us: int | None = None
    bounds: Bounds | None = None


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


# Of what takes no credential at all.
NO_CREDENTIAL = ProductRules(frozenset(), "", "", older_fields=False)


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
class Feed:
    """Everything, consistent at one moment. `number` is the stamp it was read at.

    `provider_limits` and `api_limits` stand above all plans, named by their place; `overrides` and `pauses` are by
    subscription, `suspensions` and `payment_pauses` by consumer; `strangers` are what lets calls without a credential
    through.
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
    pauses: dict[int, tuple[Pause, ...]] = field(default_factory=dict)
    suspensions: dict[int, tuple[Pause, ...]] = field(default_factory=dict)
    payment_pauses: dict[int, tuple[Pause, ...]] = field(default_factory=dict)
    issuers: tuple[Issuer, ...] = ()
    signing_keys: tuple[str, ...] = ()
    revoked_tokens: frozenset[str] = frozenset()
    strangers: tuple[Grant, ...] = ()

    def house(self, environment: Environment) -> House:
        """What holds besides a plan for calls of an environment."""
        return House(
            provider=self.provider_limits,
            api=self.api_limits,
            counted_on=counted_on(self.meters.values(), environment),
        )


def read_feed(ctx: Context) -> Feed:
    """The present feed."""
    with ctx.reading() as session:
        stamp = session.get(Stamp, stamps.SNAPSHOT)
        versions = session.scalars(
            select(ApiVersion).where(ApiVersion.state != "draft").options(selectinload(ApiVersion.operations))
        )
        origins = serving.origins(session, ctx)
        routes = tuple(_route(ctx, v, origins) for v in versions)
        found = tuple(grants.of_all(session))
        strangers = tuple(grants.of_strangers(session))
        trying = tuple(grants.of_trying(session))
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
            ApiKey.addresses,
            ApiKey.operations,
        ).join(Application, Application.id == ApiKey.application_id)
        credentials = tuple(
            Credential(
                key_hash=key_hash,
                key_id=key,
                application_id=application,
                consumer_id=consumer,
                environment=environment,
                kind=kind,
                state=state,
                starts_us=instant_if_any(starts),
                expires_us=instant_if_any(expires),
                bounds=bounds.kept(*narrowed),
            )
            for (
                key_hash,
                key,
                application,
                consumer,
                environment,
                kind,
                state,
                starts,
                expires,
                *narrowed,
            ) in session.execute(keys)
        )
        used = {g.revision_id for g in (*found, *strangers)}
        revisions = session.execute(select(PlanRevision.id, PlanRevision.terms).where(PlanRevision.id.in_(used)))
        terms = {key: read(PlanTerms, raw) for key, raw in revisions}
        terms |= {grant.revision_id: rules_of_strangers.trying(calls) for grant, calls, _ in trying}
        sold: dict[int, set[int]] = {grant.product_id: set(operations) for grant, _, operations in trying}
        for product, operation in session.execute(select(ProductOperation)):
            sold.setdefault(product, set()).add(operation)
        active = select(Meter).where(Meter.state == "active").options(selectinload(Meter.operations))
        provider_limits, api_limits = house_limits.above_plans(session)
        return Feed(
            number=stamp.number if stamp else 0,
            time_zone=provider_of(session).time_zone,
            routes=routes,
            credentials=credentials,
            grants=tuple(grants.freed(grant, terms) for grant in found),
            terms=terms,
            meters={meter.id: rule_of(meter) for meter in session.scalars(active)},
            sold={product: frozenset(operations) for product, operations in sold.items()},
            provider_limits=provider_limits,
            api_limits=api_limits,
            callers=tuple(_callers(session)),
            products={p.id: _rules(p) for p in session.scalars(select(Product))}
            | {grant.product_id: NO_CREDENTIAL for grant, _, _ in trying},
            overrides=overrides.of_all(session),
            pauses=timelines.pauses_of_all(session),
            suspensions=suspending.of_all(session),
            payment_pauses=payment_pauses.of_all(session),
            issuers=tuple(_issuers(session)),
            signing_keys=tuple(tokens.public_keys(session)),
            revoked_tokens=tokens.revoked(session, ctx.now),
            strangers=(*strangers, *(grant for grant, _, _ in trying)),
        )


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


def _route(ctx: Context, version: ApiVersion, portal_origins: frozenset[str]) -> Route:
    gone = version.state not in ANSWERING
    kept = () if gone else tuple(version.operations)
    operations = tuple((o.id, o.method, o.path) for o in kept)
    forwarding = Forwarding(
        connect_ms=version.connect_ms,
        answer_ms=version.answer_ms,
        most_body_bytes=version.most_body_bytes,
        cors_origins=frozenset(version.cors_origins),
        portal_origins=portal_origins,
        passes_caller=version.passes_caller,
        breaker_failures=version.breaker_failures,
        breaker_seconds=version.breaker_seconds,
        lets_through=frozenset(version.lets_through),
        kept_headers=frozenset(version.kept_headers),
        keeps_bodies=version.keeps_bodies,
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
        deprecated_us=instant_if_any(version.deprecated_at),
        sunset_us=instant_if_any(version.sunset_at),
        forwarding=forwarding,
        groups=tuple(tuple(o.groups) for o in kept),
        examples=examples,
        login=back_ends.opened(ctx, version.back_end_login),
        sandbox_login=back_ends.opened(ctx, version.sandbox_login),
    )
