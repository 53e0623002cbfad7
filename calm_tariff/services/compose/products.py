"""Products: what is bundled, who may see it, who may have it, under which terms of use."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from datetime import datetime

from slugify import slugify
from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core import names
from calm_tariff.core.errors import Conflict, Invalid, NotFound, Stale
from calm_tariff.core.meters import CREDENTIALS
from calm_tariff.core.routes import Route, with_plans
from calm_tariff.core.sentences import step_in_words
from calm_tariff.core.targets import MOST_DAYS
from calm_tariff.formats.addresses import page_address
from calm_tariff.formats.values import write
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import ROLES, Context, provider_of
from calm_tariff.services.compose import credential_fields, routes, strangers, terms_versions, visibility
from calm_tariff.store.admit import subscribers
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.apis import Operation
from calm_tariff.store.compose.meters import Meter, MeterOperation
from calm_tariff.store.compose.products import Plan, PlanDraft, Product

TARGET_DAYS = 2


@dataclass(frozen=True, slots=True)
class ProductTyped:
    """A product as somebody typed it; its requests are to be answered within `target_days` working days, if any."""

    name: str
    description: str
    terms_of_use: str
    route: Route
    operations: Sequence[int]
    contact: str = ""
    groups: Sequence[int] = ()
    moves_anew: bool = False
    strangers_plan: int | None = None
    subscribing_site: str = ""
    target_days: int | None = TARGET_DAYS


@dataclass(frozen=True, slots=True)
class CredentialsTyped:
    """How callers of a product prove who they are. `kinds`: key, basic, client, token; a key comes in
    `key_header`, and in the query parameter `key_query` where that is not empty."""

    kinds: Sequence[str] = ("key",)
    key_header: str = "X-API-Key"
    key_query: str = ""
    older_fields: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class ProductView:
    """A product without its plans. `decided` says in words how its requests are. `edition` is its ETag."""

    id: int
    slug: str
    name: str
    description: str
    contact: str
    terms_of_use: str
    terms_number: int
    terms_dated: datetime
    route: Route
    target_days: int | None
    decided: list[str]
    groups: list[str]
    group_ids: list[int]
    apis: list[str]
    operations: list[int]
    edition: int
    credentials: CredentialsTyped
    moves_anew: bool
    strangers_plan: int | None
    subscribing_site: str


@dataclass(frozen=True, slots=True)
class ProductSummary:
    """A line of the list of products; `access` is how its requests are decided."""

    id: int
    name: str
    apis: list[str]
    access: str
    groups: list[str]
    plans: list[str]
    subscriptions: int


def summaries(ctx: Context) -> list[ProductSummary]:
    """All products by name."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        subscribed = subscribers.subscriptions_by_product(session)
        query = (
            select(Product)
            .options(selectinload(Product.operations), selectinload(Product.plans), selectinload(Product.groups))
            .order_by(Product.name)
        )
        return [
            ProductSummary(
                id=p.id,
                name=p.name,
                apis=api_names(p),
                access="by rules" if (route := routes.of(p)).rules else step_in_words(route.otherwise),
                groups=[g.name for g in p.groups],
                plans=[plan.name for plan in p.plans],
                subscriptions=subscribed.get(p.id, 0),
            )
            for p in session.scalars(query)
        ]


def one(ctx: Context, product_id: int) -> ProductView:
    """One product. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return view(session, get(session, product_id))


def create(ctx: Context, typed: ProductTyped) -> ProductView:
    """A new product. Raises `Invalid` or `Conflict`, naming the field."""
    ctx.actor.must_be("product manager")
    typed = _plain(typed)
    slug = slugify(typed.name, max_length=40)
    if not slug:
        raise Invalid("must have letters or digits", "name")
    if typed.strangers_plan is not None:
        raise Invalid("a product is sold open once it has a plan on sale", "strangers_plan")
    with ctx.transaction() as session:
        if session.scalar(select(Product).where((Product.slug == slug) | (Product.name == typed.name))):
            raise Conflict(f"there is already a product {typed.name!r}", "name")
        product = Product(
            slug=slug,
            name=typed.name,
            description=typed.description,
            terms_of_use=typed.terms_of_use,
            terms_number=1,
            terms_dated=ctx.now,
            route=write(routes.checked(session, typed.route, (), typed.operations)),
            target_days=_target(typed),
            edition=1,
            operations=_operations(session, typed),
            contact=typed.contact,
            moves_anew=typed.moves_anew,
            subscribing_site=typed.subscribing_site,
            groups=visibility.named(session, typed.groups),
        )
        session.add(product)
        session.flush()
        terms_versions.keep(session, ctx, product)
        auditing.note(session, ctx, "made a product", ("product", product.id, product.name))
        return view(session, product)


def save(ctx: Context, product_id: int, edition: int, typed: ProductTyped) -> ProductView:
    """Change a product. New terms of use are a new version, which subscribers are asked to accept.

    Raises `Stale`.
    """
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        product = get(session, product_id, lock=True)
        before = view(session, product)
        if product.edition != edition:
            raise Stale("somebody else has changed this product meanwhile", product.name, before)
        typed = _plain(typed)
        if session.scalar(select(Product.id).where(Product.name == typed.name, Product.id != product_id)):
            raise Conflict(f"there is already a product {typed.name!r}", "name")
        if product.terms_of_use != typed.terms_of_use:
            product.terms_of_use, product.terms_dated = typed.terms_of_use, ctx.now
            product.terms_number += 1
            terms_versions.keep(session, ctx, product)
            terms_versions.ask_again(session, ctx, product)
        product.name, product.description, product.contact = typed.name, typed.description, typed.contact
        product.moves_anew = typed.moves_anew
        product.groups = visibility.named(session, typed.groups)
        product.strangers_plan_id = strangers.plan_for(session, product, typed.strangers_plan, typed.operations)
        product.route = write(routes.checked(session, typed.route, product.plans, typed.operations))
        product.target_days, product.subscribing_site = _target(typed), typed.subscribing_site
        product.operations = _operations(session, typed)
        product.edition += 1
        auditing.note(
            session,
            ctx,
            "changed a product",
            ("product", product.id, product.name),
            before=_terms(before),
            after=_terms(view(session, product)),
        )
        stamps.touch(session, ctx)
        return view(session, product)


def set_credentials(ctx: Context, product_id: int, edition: int, typed: CredentialsTyped) -> ProductView:
    """Say how callers of a product prove who they are. Raises `Invalid`, naming the field, `Stale`, or `Conflict` where
    a limit counts by the header that is to carry keys."""
    ctx.actor.must_be("product manager")
    unknown = set(typed.kinds) - set(CREDENTIALS)
    if unknown or not typed.kinds:
        raise Invalid(f"must be some of {', '.join(CREDENTIALS)}", "kinds")
    credential_fields.check(typed.key_header, typed.key_query)
    with ctx.transaction() as session:
        product = get(session, product_id, lock=True)
        if product.edition != edition:
            raise Stale("somebody else has changed this product meanwhile", product.name, view(session, product))
        if typed.key_header.lower() != product.key_header.lower():
            credential_fields.refuse_header(session, typed.key_header, ctx.now)
        before = asdict(credentials_of(product))
        product.credential_kinds = [kind for kind in CREDENTIALS if kind in typed.kinds]
        product.key_header, product.key_query = typed.key_header, typed.key_query
        product.older_fields = typed.older_fields
        product.edition += 1
        auditing.note(
            session,
            ctx,
            "changed how callers prove who they are",
            ("product", product.id, product.name),
            before=before,
            after=asdict(credentials_of(product)),
        )
        stamps.touch(session, ctx)
        return view(session, product)


def credentials_of(product: Product) -> CredentialsTyped:
    """How callers of a stored product prove who they are."""
    return CredentialsTyped(list(product.credential_kinds), product.key_header, product.key_query, product.older_fields)


def clone(ctx: Context, product_id: int, name: str) -> ProductView:
    """A new product with the same content and its plans as drafts. Raises `Invalid` or `Conflict`."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        source = get(session, product_id)
        joined = ctx.joining(session)
        typed = typed_of(source)
        bare = replace(typed, name=name, strangers_plan=None, route=replace(typed.route, rules=()))
        copied = create(joined, bare)
        copied = set_credentials(joined, copied.id, copied.edition, credentials_of(source))
        plans = select(Plan).where(Plan.product_id == product_id, Plan.state != "withdrawn").order_by(Plan.place)
        twins: dict[int, int] = {}
        for place, plan in enumerate(session.scalars(plans)):
            terms = plan.draft.terms if plan.draft else plan.revisions[-1].terms
            twin = Plan(product_id=copied.id, name=plan.name, place=place, state="draft", groups=list(plan.groups))
            twin.draft = PlanDraft(terms=terms, saved_at=ctx.now, saved_by=ctx.actor.name)
            session.add(twin)
            session.flush()
            twins[plan.id] = twin.id
        made = get(session, copied.id)
        made.route = write(with_plans(typed.route, twins))
        return view(session, made)


def typed_of(product: Product) -> ProductTyped:
    """A stored product as somebody would have typed it."""
    return ProductTyped(
        name=product.name,
        description=product.description,
        terms_of_use=product.terms_of_use,
        route=routes.of(product),
        operations=[o.id for o in product.operations],
        contact=product.contact,
        groups=[g.id for g in product.groups],
        moves_anew=product.moves_anew,
        strangers_plan=product.strangers_plan_id,
        subscribing_site=product.subscribing_site,
        target_days=product.target_days,
    )


def get(session: Session, product_id: int, lock: bool = False) -> Product:
    """The stored product. Raises `NotFound`."""
    query = select(Product).where(Product.id == product_id).options(selectinload(Product.operations))
    if lock:
        locked(session, Product, product_id)
    found = session.scalar(query.execution_options(populate_existing=lock))
    if found is None:
        raise NotFound("there is no such product", str(product_id))
    return found


def api_names(product: Product) -> list[str]:
    """The API versions whose operations a product bundles: `Tides v1`."""
    names = {f"{o.api_version.api.name} {o.api_version.version}" for o in product.operations}
    return sorted(names)


def meters_of(session: Session, product: Product) -> list[Meter]:
    """The meters that count some operation of a product, oldest first."""
    query = (
        select(Meter)
        .join(MeterOperation, MeterOperation.c.meter_id == Meter.id)
        .where(MeterOperation.c.operation_id.in_([o.id for o in product.operations]))
        .distinct()
        .order_by(Meter.id)
    )
    return list(session.scalars(query))


def view(session: Session, product: Product) -> ProductView:
    """A stored product as people see it."""
    return ProductView(
        id=product.id,
        slug=product.slug,
        name=product.name,
        description=product.description,
        contact=product.contact,
        terms_of_use=product.terms_of_use,
        terms_number=product.terms_number,
        terms_dated=product.terms_dated,
        route=routes.of(product),
        target_days=product.target_days,
        decided=routes.in_words(session, product),
        groups=[g.name for g in product.groups],
        group_ids=[g.id for g in product.groups],
        apis=api_names(product),
        operations=[o.id for o in product.operations],
        edition=product.edition,
        credentials=credentials_of(product),
        moves_anew=product.moves_anew,
        strangers_plan=product.strangers_plan_id,
        subscribing_site=product.subscribing_site,
    )


def _plain(typed: ProductTyped) -> ProductTyped:
    site = page_address(typed.subscribing_site, "subscribing_site")
    return replace(typed, name=names.plain(typed.name, "name"), subscribing_site=site)


def target_days_of_the_house(ctx: Context) -> int:
    """Within how many working days requests for new products are to be answered."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        return provider_of(session).target_days


def _target(typed: ProductTyped) -> int | None:
    if typed.target_days is not None and not 0 <= typed.target_days <= MOST_DAYS:
        raise Invalid(f"must be 0 to {MOST_DAYS} working days", "target_days")
    return typed.target_days


def _operations(session: Session, typed: ProductTyped) -> list[Operation]:
    found = session.scalars(select(Operation).where(Operation.id.in_(typed.operations))).all()
    if not found or len(found) != len(set(typed.operations)):
        raise Invalid("choose at least one operation that is there", "operations")
    return list(found)


def _terms(product: ProductView) -> dict[str, object]:
    return {
        "name": product.name,
        "decided": product.decided,
        "target_days": product.target_days,
        "operations": product.operations,
        "groups": product.groups,
        "sold open under plan": product.strangers_plan,
        "terms_dated": product.terms_dated.isoformat(),
    }
