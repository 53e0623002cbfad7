"""The reference: every operation that a product sells, as its document describes it and the plans limit and count it;
and all operations of a portal by what is said of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound
from calm_tariff.core.lifecycles import ANSWERING
from calm_tariff.core.sentences import credential_in_words, limit_sentence, override_sentence, words
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.openapi_reference import Reference
from calm_tariff.formats.values import read
from calm_tariff.services.admit.portals import storefront
from calm_tariff.services.base.context import Context
from calm_tariff.services.compose.apis import described
from calm_tariff.services.compose.products import meters_of
from calm_tariff.store.compose.apis import Operation
from calm_tariff.store.compose.issuers import OutsideIssuer
from calm_tariff.store.compose.products import Plan, Product

MOST_FOUND = 50


@dataclass(frozen=True, slots=True, kw_only=True)
class OperationLine:
    """An operation in the list of those that a product sells."""

    id: int
    method: str
    url_path: str
    summary: str
    version: str
    groups: list[str]
    deprecated: bool


@dataclass(frozen=True, slots=True)
class PlanLimits:
    """What a plan lets through of an operation, in sentences."""

    plan: str
    limits: list[str]


@dataclass(frozen=True, slots=True)
class TrustedIssuer:
    """An outside issuer whose tokens prove who calls: for the audience, with the client id in the claim."""

    name: str
    issuer: str
    audience: str
    claim: str


@dataclass(frozen=True, slots=True, kw_only=True)
class OperationView:
    """An operation in full: what its document says of it (None where it has none), until when its version answers where
    an end is announced, what counts it, how each plan limits it, and how callers prove who they are: in words, by kind
    (core.meters.CREDENTIALS), and where a key stands. A call is for its version by the `host` or the `headers` that
    choose it, where the path alone does not. `sandbox` tells whether there is one that answers it. Live calls without
    a credential are let in under the limits of the plan `open_under`, where there is one; those of the sandbox where
    `tried_by_anyone`."""

    line: OperationLine
    ends_at: datetime | None
    described: Reference | None
    meters: list[str]
    plans: list[PlanLimits]
    credentials: list[str]
    kinds: list[str]
    issuers: list[TrustedIssuer]
    key_header: str
    key_query: str
    host: str
    headers: dict[str, str]
    sandbox: bool
    open_under: str | None
    tried_by_anyone: bool


@dataclass(frozen=True, slots=True)
class Found:
    """An operation that was found, in a product that sells it."""

    slug: str
    product: str
    line: OperationLine


def operations(ctx: Context, slug: str) -> list[OperationLine]:
    """What a product sells, by version and path. Raises `NotFound`."""
    with ctx.reading() as session:
        product, _ = storefront.found(session, ctx, slug)
        return [line for line, _ in _lines(session, product)]


def operation(ctx: Context, slug: str, operation_id: int) -> OperationView:
    """One operation of a product. Raises `NotFound`."""
    with ctx.reading() as session:
        product, plans = storefront.found(session, ctx, slug)
        sold = {line.id: line for line, _ in _lines(session, product)}
        if operation_id not in sold:
            raise NotFound("there is no such operation", str(operation_id))
        one = session.get_one(Operation, operation_id)
        version = one.api_version
        meters = [m for m in meters_of(session, product) if any(o.id == operation_id for o in m.operations)]
        return OperationView(
            line=sold[operation_id],
            ends_at=version.sunset_at,
            described=described.reference(session, one),
            meters=[meter.name for meter in meters],
            plans=_limits(session, product, plans, one),
            credentials=[
                credential_in_words(kind, product.key_header, product.key_query) for kind in product.credential_kinds
            ],
            kinds=list(product.credential_kinds),
            issuers=_issuers(session) if "token" in product.credential_kinds else [],
            key_header=product.key_header,
            key_query=product.key_query,
            host=version.chosen_value if version.chosen_by == "host" else "",
            headers={version.chosen_name: version.chosen_value} if version.chosen_by == "header" else {},
            sandbox=bool(version.sandbox_url) or (one.answers != "back end" and bool(one.example)),
            open_under=storefront.open_under(product),
            tried_by_anyone=one.tried_by_anyone,
        )


def search(ctx: Context, text: str) -> list[Found]:
    """The operations of a portal of which all words are said: in the path, the summary, the groups, or anywhere in what
    the document says; those that say them in path or summary first."""
    wanted = text.lower().split()
    if not wanted:
        return []
    found: list[tuple[bool, Found]] = []
    with ctx.reading() as session:
        for product in storefront.on_offer(session, ctx):
            for line, said in _lines(session, product):
                first = f"{line.method} {line.url_path} {line.summary} {' '.join(line.groups)}".lower()
                if all(word in first or word in said for word in wanted):
                    near = all(word in first for word in wanted)
                    found.append((not near, Found(product.slug, product.name, line)))
    found.sort(key=lambda one: one[0])
    return [one for _, one in found[:MOST_FOUND]]


def _lines(session: Session, product: Product) -> list[tuple[OperationLine, str]]:
    """The operations that answer, each with all that can be searched of it."""
    query = (
        select(Operation)
        .where(Operation.id.in_([o.id for o in product.operations]), Operation.retired_at.is_(None))
        .order_by(Operation.api_version_id, Operation.path, Operation.method)
    )
    answering = [o for o in session.scalars(query) if o.api_version.state in ANSWERING]
    made = []
    for version_id in dict.fromkeys(o.api_version_id for o in answering):
        here = [o for o in answering if o.api_version_id == version_id]
        said = described.said_of(session, version_id, here)
        for o in here:
            known = said.get(o.id)
            line = OperationLine(
                id=o.id,
                method=o.method,
                url_path=f"{o.api_version.base_path}{o.path}",
                summary=o.summary,
                version=f"{o.api_version.api.name} {o.api_version.version}",
                groups=list(o.groups),
                deprecated=o.api_version.state == "sunset" or bool(known and known.deprecated),
            )
            made.append((line, known.words if known else ""))
    return made


def _issuers(session: Session) -> list[TrustedIssuer]:
    trusted = session.scalars(select(OutsideIssuer).where(OutsideIssuer.trusted).order_by(OutsideIssuer.name))
    return [TrustedIssuer(one.name, one.issuer, one.audience, one.claim) for one in trusted]


def _limits(session: Session, product: Product, plans: Sequence[Plan], one: Operation) -> list[PlanLimits]:
    counted_on = {m.key: tuple(str(o.id) for o in m.operations) for m in meters_of(session, product)}
    names = {meter.key: meter.name for meter in meters_of(session, product)}
    this = str(one.id)
    found = []
    for plan in plans:
        terms = read(PlanTerms, plan.revisions[-1].terms)
        said = []
        for limit in terms.limits_over(counted_on):
            if limit.applies_to is None or this in limit.applies_to:
                meter = f"{names[limit.meter]}: " if limit.kind == "quota" and limit.meter in names else ""
                said.append(meter + words(limit_sentence(limit)))
        for limit in terms.overrides_over(counted_on):
            if limit.applies_to is None or this in limit.applies_to:
                said.append(words(override_sentence(limit, "", [(this, one.label)])))
        found.append(PlanLimits(plan.name, said))
    return found
