"""What a portal sells: products, their operations, and their plans side by side."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core.errors import NotFound
from calm_tariff.core.lifecycles import ANSWERING
from calm_tariff.core.meters import ENVIRONMENTS
from calm_tariff.core.sheet_cells import Column, words_of
from calm_tariff.core.sheet_rows import rows
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.markdown import html
from calm_tariff.formats.openapi_examples import ExampleAnswer
from calm_tariff.formats.values import read
from calm_tariff.services.admit import first_trials, groups, paying
from calm_tariff.services.admit.desk.routing import way_for
from calm_tariff.services.admit.portals import serving
from calm_tariff.services.base.context import Context, zone_of
from calm_tariff.services.compose import visibility
from calm_tariff.services.compose.apis import described, release_notes
from calm_tariff.services.compose.apis.release_notes import NoteShown
from calm_tariff.services.compose.products import api_names, meters_of
from calm_tariff.services.compose.sheet.estimates import next_month
from calm_tariff.services.compose.sheet.tariff_sheet import vocabulary_of
from calm_tariff.store.admit import subscribers
from calm_tariff.store.compose.apis import Operation
from calm_tariff.store.compose.products import Plan, Product

# Of so many operations the example is looked at, and so long a one says as much as a longer one.
_LOOKED_AT = 20
_MUCH = 2000


@dataclass(frozen=True, slots=True)
class Offer:
    """A plan on sale. `charges`: it can come to more than nothing. `trial_had`: it begins with a trial, but not for
    whoever asks, who has had theirs of the product; where the plan is `nothing_else`, it is not to be had again.
    `at_once`: it is had without anybody being asked, as far as can be told beforehand; `sandbox_at_once`: by an
    application for the sandbox alone."""

    plan_id: int
    name: str
    charges: bool
    at_once: bool
    sandbox_at_once: bool
    trial_had: bool
    nothing_else: bool


@dataclass(frozen=True, slots=True)
class OfferedTerm:
    """A term of the plans side by side, in the tariff sheet's sentences; `same` where all plans say the same."""

    group: str
    label: str
    cells: list[str]
    same: bool


@dataclass(frozen=True, slots=True)
class OfferedOperation:
    """An operation of a product and where it is called."""

    method: str
    path: str
    summary: str
    url_path: str


@dataclass(frozen=True, slots=True)
class FirstAnswer:
    """What an operation of a product answers, for instance."""

    method: str
    url_path: str
    summary: str
    type: str
    body: str


@dataclass(frozen=True, slots=True)
class AnnouncedEnd:
    """A version that ends, the moment it does, and the version that takes its place, where there is one."""

    version: str
    ends_at: datetime
    instead: str | None


@dataclass(frozen=True, slots=True)
class ProductLine:
    """A product in the list."""

    slug: str
    name: str
    description: str
    apis: list[str]
    plans: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class Storefront:
    """One product with its plans side by side. Where it is sold open, anyone may call it without a credential under the
    limits of the plan `open_under`; where there is a `subscribing_site`, plans are chosen there."""

    slug: str
    name: str
    description: str
    contact: str
    description_html: str
    contact_html: str
    terms_html: str
    terms_dated: datetime
    operations: list[OfferedOperation]
    first_answer: FirstAnswer | None
    ends: list[AnnouncedEnd]
    offers: list[Offer]
    terms: list[OfferedTerm]
    key_header: str
    open_under: str | None
    subscribing_site: str


def products(ctx: Context) -> list[ProductLine]:
    """Products with a plan on sale that the portal offers and the signed-in consumer's groups may see."""
    with ctx.reading() as session:
        may_see = _eyes(session, ctx)
        return [
            ProductLine(p.slug, p.name, p.description, api_names(p), [plan.name for plan in may_see.on_sale(p)])
            for p in on_offer(session, ctx)
        ]


def on_offer(session: Session, ctx: Context) -> list[Product]:
    """The stored products that whoever asks may see here, by name."""
    query = (
        select(Product)
        .options(
            selectinload(Product.plans).selectinload(Plan.groups),
            selectinload(Product.operations),
            selectinload(Product.groups),
        )
        .order_by(Product.name)
    )
    may_see = _eyes(session, ctx)
    return [p for p in session.scalars(query) if may_see.on_sale(p)]


def product(ctx: Context, slug: str) -> Storefront:
    """One product. Raises `NotFound`."""
    with ctx.reading() as session:
        one, plans = found(session, ctx, slug)
        had = first_trials.had(session, ctx.actor.consumer_id, one.id)
        answering = [o for o in one.operations if o.retired_at is None and o.api_version.state in ANSWERING]
        operations = [
            OfferedOperation(o.method, o.path, o.summary, f"{o.api_version.base_path}{o.path}") for o in answering
        ]
        return Storefront(
            slug=one.slug,
            name=one.name,
            description=one.description,
            contact=one.contact,
            description_html=html(one.description),
            contact_html=html(one.contact),
            terms_html=html(one.terms_of_use),
            terms_dated=one.terms_dated,
            operations=operations,
            first_answer=_first_answer(session, answering, _counted_first(session, one, plans)),
            ends=_ends(answering),
            offers=_offers(session, ctx, plans, had),
            terms=_side_by_side(session, one, plans),
            key_header=one.key_header,
            open_under=open_under(one),
            subscribing_site=one.subscribing_site,
        )


def release_notes_of(ctx: Context, slug: str) -> list[NoteShown]:
    """What was new in the versions of which a product sells something, up to today. Raises `NotFound`."""
    with ctx.reading() as session:
        one, _ = found(session, ctx, slug)
        versions = {o.api_version_id for o in one.operations if o.api_version.state in ANSWERING}
        return release_notes.shown(session, versions, ctx.now.astimezone(zone_of(session)).date())


def found(session: Session, ctx: Context, slug: str) -> tuple[Product, list[Plan]]:
    """A product and its plans on sale for whoever asks. Raises `NotFound`, the same for one that is hidden from them as
    for one that is not there."""
    query = (
        select(Product)
        .where(Product.slug == slug)
        .options(selectinload(Product.operations), selectinload(Product.plans).selectinload(Plan.revisions))
    )
    one = session.scalar(query)
    plans = _eyes(session, ctx).on_sale(one) if one else []
    if one is None or not plans:
        raise NotFound("there is no such product", slug)
    return one, plans


def open_under(product: Product) -> str | None:
    """The plan under whose limits a product may be called without a credential, where it is sold open."""
    plans = (plan for plan in product.plans if plan.id == product.strangers_plan_id and plan.state != "withdrawn")
    return next((plan.name for plan in plans), None)


def known(session: Session, ctx: Context, slug: str) -> Product:
    """A product that whoever asks may know of. Raises `NotFound`, the same for one that is hidden from them."""
    one = session.scalar(select(Product).where(Product.slug == slug))
    if one is None or not seen(session, ctx, one):
        raise NotFound("there is no such product", slug)
    return one


def seen(session: Session, ctx: Context, product: Product) -> bool:
    """Whether whoever asks may know that a product is there: it has something on sale for them here, or they are on
    it."""
    return seen_by(session, product, ctx.actor.consumer_id, ctx.actor.portal_id)


def seen_by(session: Session, product: Product, consumer_id: int | None, portal_id: int | None) -> bool:
    """The same of a consumer, or of a stranger, who comes by a portal."""
    eyes = _Eyes(groups.of_consumer(session, consumer_id), serving.offered(session, portal_id))
    if eyes.on_sale(product):
        return True
    return consumer_id is not None and product.id in subscribers.products_held(session, consumer_id)


def may_have(session: Session, ctx: Context, plan: Plan) -> bool:
    """Whether the signed-in consumer can have a plan here now."""
    return plan in _eyes(session, ctx).on_sale(plan.product)


@dataclass(frozen=True, slots=True)
class _Eyes:
    """What somebody may see: as one of the groups `mine`, of the products `offered` (all of them where None)."""

    mine: frozenset[int]
    offered: frozenset[int] | None

    def on_sale(self, product: Product) -> list[Plan]:
        """The plans of a product that are on sale for them; none where they may not see it."""
        if (self.offered is not None and product.id not in self.offered) or not visibility.sees(product, self.mine):
            return []
        return [plan for plan in product.plans if plan.state == "on sale" and visibility.sees(plan, self.mine)]


def _eyes(session: Session, ctx: Context) -> _Eyes:
    mine = groups.of_consumer(session, ctx.actor.consumer_id)
    return _Eyes(mine, serving.offered(session, ctx.actor.portal_id))


def _offers(session: Session, ctx: Context, plans: list[Plan], had: bool) -> list[Offer]:
    mine, month = groups.of_consumer(session, ctx.actor.consumer_id), next_month(session, ctx)
    offers = []
    for plan in plans:
        trial = read(PlanTerms, plan.revisions[-1].terms).trial
        live, sandbox = (way_for(plan, month, groups=mine, environment=each) for each in ENVIRONMENTS)
        offers.append(
            Offer(
                plan_id=plan.id,
                name=plan.name,
                charges=paying.charges(plan),
                at_once=live.at_once,
                sandbox_at_once=sandbox.at_once,
                trial_had=had and trial is not None,
                nothing_else=trial is not None and trial.alone,
            )
        )
    return offers


def _side_by_side(session: Session, product: Product, plans: list[Plan]) -> list[OfferedTerm]:
    """The terms of plans row by row, without rows on which none of them says anything."""
    columns = [Column(plan.id, read(PlanTerms, plan.revisions[-1].terms), None) for plan in plans]
    terms = []
    for row in rows(columns, vocabulary_of(session, product)):
        if any(cell.sentences for cell in row.cells):
            cells = [words_of(cell) or cell.absent for cell in row.cells]
            terms.append(OfferedTerm(row.group, row.label, cells, len(set(cells)) == 1))
    return terms


def _counted_first(session: Session, product: Product, plans: list[Plan]) -> frozenset[int]:
    """The operations that the meter counts which plans speak of first: what the product is bought for."""
    priced = [key for plan in plans for key in read(PlanTerms, plan.revisions[-1].terms).meters()]
    counting = {meter.key: meter for meter in meters_of(session, product)}
    first = next((counting[key] for key in priced if key in counting), None)
    return frozenset(o.id for o in first.operations) if first else frozenset()


def _first_answer(session: Session, operations: list[Operation], wanted: frozenset[int]) -> FirstAnswer | None:
    """What somebody would like to see of the data first: of a version that stays, an answer to a question about one
    thing, in JSON, that says much, of what is `wanted`; otherwise any that is there."""
    likely = sorted(
        operations,
        key=lambda o: (o.api_version.state != "live", o.method != "GET", o.id not in wanted, -o.path.count("{")),
    )
    shown = [(o, example) for o in likely[:_LOOKED_AT] if (example := described.example_answer(session, o))]
    if not shown:
        return None

    def how_good(one: tuple[Operation, ExampleAnswer]) -> tuple[bool, bool, bool, bool, int]:
        operation, example = one
        stays, asks = operation.api_version.state == "live", operation.method == "GET"
        return stays, asks, "json" in example.type, operation.id in wanted, min(len(example.body), _MUCH)

    o, example = max(shown, key=how_good)
    return FirstAnswer(o.method, f"{o.api_version.base_path}{o.path}", o.summary, example.type, example.body)


def _ends(operations: list[Operation]) -> list[AnnouncedEnd]:
    """The announced ends of versions that a product's operations are of, the first to come first."""
    versions = {o.api_version_id: o.api_version for o in operations}.values()
    ends = []
    for version in versions:
        if version.sunset_at is None:
            continue
        later = [v for v in version.api.versions if v.state == "live" and v.id > version.id]
        instead = f"{version.api.name} {later[-1].version}" if later else None
        ends.append(AnnouncedEnd(f"{version.api.name} {version.version}", version.sunset_at, instead))
    return sorted(ends, key=lambda end: end.ends_at)
