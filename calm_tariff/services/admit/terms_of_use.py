"""Terms of use: what a consumer has accepted, and has still to accept."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.formats.markdown import html
from calm_tariff.services.admit.portals import storefront
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.requests import TermsAccepted
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.compose.products import Plan, Product


@dataclass(frozen=True, slots=True)
class TermsToAccept:
    """A product's newest terms of use, which its subscriber is asked to accept."""

    slug: str
    product: str
    number: int
    dated: datetime
    html: str


def accept_terms(ctx: Context, slug: str) -> None:
    """Accept the newest terms of use of a product for one's own organisation. Raises `NotFound`."""
    with ctx.transaction() as session:
        product = storefront.known(session, ctx, slug)
        accept(session, ctx, product)
        auditing.note(
            session, ctx, f"accepted terms of use {product.terms_number}", ("product", product.id, product.name)
        )


def to_accept(ctx: Context) -> list[TermsToAccept]:
    """Terms of use of one's own subscriptions whose newest version nobody here has accepted yet."""
    consumer = ctx.actor.own_consumer
    with ctx.reading() as session:
        query = (
            select(Product)
            .join(Plan, Plan.product_id == Product.id)
            .join(Subscription, Subscription.plan_id == Plan.id)
            .join(Application, Application.id == Subscription.application_id)
            .where(Application.consumer_id == consumer, Subscription.state != "ended")
            .distinct()
            .order_by(Product.name)
        )
        held = select(TermsAccepted.product_id, TermsAccepted.number).where(TermsAccepted.consumer_id == consumer)
        accepted = {(product, number) for product, number in session.execute(held)}
        return [
            TermsToAccept(p.slug, p.name, p.terms_number, p.terms_dated, html(p.terms_of_use))
            for p in session.scalars(query)
            if (p.id, p.terms_number) not in accepted
        ]


def accept(session: Session, ctx: Context, product: Product) -> None:
    """Keep that the signed-in consumer accepts the newest terms of use."""
    place = (ctx.actor.consumer_to("ask for plans"), product.id, product.terms_number)
    if session.get(TermsAccepted, place) is None:
        consumer, product_id, number = place
        session.add(
            TermsAccepted(
                consumer_id=consumer, product_id=product_id, number=number, member=ctx.actor.name, accepted_at=ctx.now
            )
        )
