"""What a portal sells: products, their operations and plans, and an estimate."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core.errors import Invalid, NotFound
from calm_tariff.core.lifecycles import ANSWERING
from calm_tariff.core.sentences import (
    plan_in_words,
)
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.markdown import html
from calm_tariff.formats.values import read
from calm_tariff.services.admit import groups
from calm_tariff.services.admit.portals import serving
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.services.compose import visibility
from calm_tariff.services.compose.products import api_names, meters_of
from calm_tariff.services.compose.sheet import estimates
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.compose.products import Plan, Product


@dataclass(frozen=True, slots=True, kw_only=True)
class Offer:
    """A plan on sale, its terms as sentences. `estimate` is a month before tax at the asked quantity;
    None where the plan does not reach."""

    plan_id: int
    name: str
    terms: list[str]
    estimate: Decimal | None
    reaches: Decimal | None
    cheapest: bool


@dataclass(frozen=True, slots=True)
class OfferedOperation:
    """An operation of a product and where it is called."""

    method: str
    path: str
    summary: str
    url_path: str


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
    """One product with its plans, priced for a month of `units` of the meter it is sold by."""

    slug: str
    name: str
    description: str
    contact: str
    description_html: str
    contact_html: str
    terms_html: str
    terms_dated: datetime
    access_route: str
    operations: list[OfferedOperation]
    meter: str | None
    units: int
    offers: list[Offer]
    key_header: str


def products(ctx: Context) -> list[ProductLine]:
    """Products with a plan on sale that the portal offers and the signed-in consumer's groups may see."""
    with ctx.transaction() as session:
        may_see = _eyes(session, ctx)
        query = (
            select(Product)
            .options(
                selectinload(Product.plans).selectinload(Plan.groups),
                selectinload(Product.operations),
                selectinload(Product.groups),
            )
            .order_by(Product.name)
        )
        offered = [(p, may_see.on_sale(p)) for p in session.scalars(query)]
        return [
            ProductLine(p.slug, p.name, p.description, api_names(p), [plan.name for plan in plans])
            for p, plans in offered
            if plans
        ]


def product(ctx: Context, slug: str, units: int = 10_000) -> Storefront:
    """One product, its plans estimated for a month of `units`. Raises `NotFound`."""
    if units < 0 or units > 10**12:
        raise Invalid("must be between 0 and 1,000,000,000,000", "units")
    with ctx.transaction() as session:
        query = (
            select(Product)
            .where(Product.slug == slug)
            .options(selectinload(Product.operations), selectinload(Product.plans).selectinload(Plan.revisions))
        )
        found = session.scalar(query)
        plans = _eyes(session, ctx).on_sale(found) if found else []
        if found is None or not plans:
            raise NotFound("there is no such product", slug)
        sold = [(plan, read(PlanTerms, plan.revisions[-1].terms)) for plan in plans]
        meter = next((m for _, terms in sold for m in terms.meters()), None)
        names = {m.key: m.name for m in meters_of(session, found)}
        operations = [
            OfferedOperation(o.method, o.path, o.summary, f"{o.api_version.base_path}{o.path}")
            for o in found.operations
            if o.retired_at is None and o.api_version.state in ANSWERING
        ]
        return Storefront(
            slug=found.slug,
            name=found.name,
            description=found.description,
            contact=found.contact,
            description_html=html(found.description),
            contact_html=html(found.contact),
            terms_html=html(found.terms_of_use),
            terms_dated=found.terms_dated,
            access_route=found.access_route,
            operations=operations,
            meter=names.get(meter or ""),
            units=units,
            offers=_offers(session, ctx, sold, meter, units=units, names=names),
            key_header=found.key_header,
        )


def seen(session: Session, ctx: Context, product: Product) -> bool:
    """Whether the signed-in consumer may know that a product is there: it has something on sale for them here, or they
    are on it."""
    if _eyes(session, ctx).on_sale(product):
        return True
    held = (
        select(Subscription.id)
        .join(Plan, Plan.id == Subscription.plan_id)
        .join(Application, Application.id == Subscription.application_id)
        .where(
            Plan.product_id == product.id,
            Application.consumer_id == ctx.actor.own_consumer,
            Subscription.state != "ended",
        )
    )
    return session.scalar(held.limit(1)) is not None


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


def _offers(
    session: Session,
    ctx: Context,
    sold: list[tuple[Plan, PlanTerms]],
    meter: str | None,
    units: int,
    names: dict[str, str],
) -> list[Offer]:
    currency = provider_of(session).currency
    labels = [(str(o.id), o.label) for plan, _ in sold[:1] for o in plan.product.operations]
    prices = {plan.id: estimates.of_terms(session, ctx, terms, meter, Decimal(units)) for plan, terms in sold}
    reached = [e for e in prices.values() if e is not None]
    least = min(reached) if reached else None
    return [
        Offer(
            plan_id=plan.id,
            name=plan.name,
            terms=plan_in_words(terms, currency, names, labels),
            estimate=prices[plan.id],
            reaches=terms.reach(meter),
            cheapest=least is not None and prices[plan.id] == least,
        )
        for plan, terms in sold
    ]
