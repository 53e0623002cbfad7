"""Which products are billed outside, and from which month to which: those months of theirs are not charged here.

Source: docs/arithmetic.md, section 8.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.events import Thing
from calm_tariff.core.periods import local_day, month_of, month_step
from calm_tariff.services.base import auditing, jobs
from calm_tariff.services.base.context import Context, zone_of
from calm_tariff.services.settle.handoff import revising
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.products import Plan, Product
from calm_tariff.store.settle.handoff import OutsideProduct
from calm_tariff.store.settle.money_documents import MoneyDocument, MoneyLine


@dataclass(frozen=True, slots=True, kw_only=True)
class OutsideProductView:
    """A product that is, was or will be billed outside: from the first day of a month on, until that of another, if
    any; and how many subscriptions it has now."""

    id: int
    product_id: int
    product: str
    since: date
    until: date | None
    made_by: str
    subscriptions: int


def begin(ctx: Context, product_id: int, since: date) -> OutsideProductView:
    """Have a product billed outside from a month on: one of which nothing of it stands on a document yet. Raises
    `NotFound`, `Invalid` for a day that is no month's first or a month that was charged, `Conflict` where it is billed
    outside already."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        product = locked(session, Product, product_id)
        if product is None:
            raise NotFound("there is no such product", str(product_id))
        _first_of_month(since, "since")
        last = _last(session, product_id)
        if last is not None and (last.until is None or last.until > since):
            until = f" until {last.until:%B %Y}" if last.until else ""
            raise Conflict(f"is billed outside already{until}", product.name)
        charged = _charged(session, product_id, since)
        if charged is not None:
            raise Invalid(
                f"{charged:%B %Y} has documents with lines of {product.name}: begin with a later month", "since"
            )
        if since > month_step(_running(session, ctx), 12):
            raise Invalid("must be within a year", "since")
        made = OutsideProduct(product_id=product_id, since=since, made_by=ctx.actor.name, made_at=ctx.now)
        session.add(made)
        session.flush()
        after = {"since": str(since)}
        auditing.note(session, ctx, "had a product billed outside", _subject(product), after=after)
        jobs.soon(session, ctx, revising.LOOK)
        return _view(session, made)


def end(ctx: Context, product_id: int, until: date) -> OutsideProductView:
    """Have a product billed here again from a month on that has not begun. Raises `NotFound`, `Conflict` where it is
    not billed outside, or `Invalid`."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        product = locked(session, Product, product_id)
        if product is None:
            raise NotFound("there is no such product", str(product_id))
        last = _last(session, product_id)
        if last is None or last.until is not None:
            raise Conflict("is not billed outside, or its end is said already", product.name)
        _first_of_month(until, "until")
        soonest = max(month_step(_running(session, ctx), 1), last.since)
        if until < soonest:
            raise Invalid(f"must be {soonest:%-d %B %Y} or later: what is over was handed on", "until")
        last.until = until
        after = {"until": str(until)}
        auditing.note(session, ctx, "had a product billed here again", _subject(product), after=after)
        session.flush()
        return _view(session, last)


def listed(session: Session) -> list[OutsideProductView]:
    """All that is, was or will be billed outside, the latest first."""
    query = select(OutsideProduct).order_by(OutsideProduct.since.desc(), OutsideProduct.id.desc())
    return [_view(session, each) for each in session.scalars(query)]


def _first_of_month(day: date, field: str) -> None:
    if day.day != 1:
        raise Invalid("must be the first day of a month", field)


def _running(session: Session, ctx: Context) -> date:
    return month_of(local_day(ctx.now_us, zone_of(session))).start


def _last(session: Session, product_id: int) -> OutsideProduct | None:
    query = select(OutsideProduct).where(OutsideProduct.product_id == product_id).order_by(OutsideProduct.id.desc())
    return session.scalar(query.limit(1))


def _charged(session: Session, product_id: int, since: date) -> date | None:
    """The first month, from one on, of which something of a product stands on a document."""
    of_product = (
        select(Subscription.id).join(Plan, Plan.id == Subscription.plan_id).where(Plan.product_id == product_id)
    )
    query = (
        select(func.min(MoneyLine.belongs_to))
        .join(MoneyDocument, MoneyDocument.id == MoneyLine.document_id)
        .where(MoneyLine.belongs_to >= since, MoneyLine.subscription_id.in_(of_product))
    )
    return session.scalar(query)


def _subject(product: Product) -> Thing:
    return Thing("outside billing", product.id, product.name)


def _view(session: Session, of: OutsideProduct) -> OutsideProductView:
    subscribed = select(func.count()).select_from(Subscription).join(Plan, Plan.id == Subscription.plan_id)
    alive = session.scalar(subscribed.where(Plan.product_id == of.product_id, Subscription.state != "ended"))
    return OutsideProductView(
        id=of.id,
        product_id=of.product_id,
        product=session.get_one(Product, of.product_id).name,
        since=of.since,
        until=of.until,
        made_by=of.made_by,
        subscriptions=alive or 0,
    )
