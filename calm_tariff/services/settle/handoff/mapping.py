"""Mapping: which customer a consumer is outside, and which price a subscription has there. What is not mapped waits.

A change holds for what is handed on from then on; a difference to what was accepted already goes where that went.

Source: docs/arithmetic.md, section 8.
"""

from __future__ import annotations

from sqlalchemy import Select, select
from sqlalchemy.orm import Session

from calm_tariff.core import names
from calm_tariff.core.errors import Conflict, NotFound, Stale
from calm_tariff.core.events import Thing
from calm_tariff.services.admit import subscriptions
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.services.settle.handoff import handing_on
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.products import Plan
from calm_tariff.store.settle.handoff import HandedUnits, OutsideCustomer, PlanPrice, SubscriptionPrice

LONGEST = 100
Price = PlanPrice | SubscriptionPrice


def set_customer(ctx: Context, consumer_id: int, customer: str, edition: int | None = None) -> None:
    """Say which customer a consumer is outside; nothing for none. Raises `NotFound`, `Invalid`, `Conflict` where
    another consumer is that customer, or `Stale` where somebody changed it since that `edition` (0: there was none)."""
    ctx.actor.must_be("finance")
    wanted = _typed(customer, "customer")
    with ctx.transaction() as session:
        consumer = locked(session, Consumer, consumer_id)
        if consumer is None:
            raise NotFound("there is no such consumer", str(consumer_id))
        kept = session.get(OutsideCustomer, consumer_id)
        before = kept.customer if kept is not None else ""
        _unchanged(kept, edition)
        if wanted == before:
            return
        taken = select(Consumer.name).join(OutsideCustomer, OutsideCustomer.consumer_id == Consumer.id)
        other = session.scalar(taken.where(OutsideCustomer.customer == wanted))
        if other is not None:
            raise Conflict(f"is {other} already", wanted)
        if kept is not None:
            session.delete(kept)
            session.flush()
        if wanted:
            edition_now = kept.edition + 1 if kept is not None else 1
            session.add(OutsideCustomer(consumer_id=consumer_id, customer=wanted, edition=edition_now))
        subject = Thing("outside billing", consumer_id, consumer.name, consumer_id)
        said = {"customer": before}, {"customer": wanted}
        auditing.note(session, ctx, "mapped a consumer to a customer outside", subject, *said)
        handing_on.release(session, ctx, HandedUnits.subscription_id.in_(_subscriptions(consumer_id)))


def set_plan_price(ctx: Context, plan_id: int, price: str, edition: int | None = None) -> None:
    """Say which price subscriptions to a plan have outside; nothing for none. Raises as `set_customer` does."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        plan = locked(session, Plan, plan_id)
        if plan is None:
            raise NotFound("there is no such plan", str(plan_id))
        kept = session.get(PlanPrice, plan_id)
        change = _priced(session, kept, PlanPrice(plan_id=plan_id), price, edition)
        if change is not None:
            subject = Thing("outside billing", plan_id, f"{plan.product.name} · {plan.name}")
            auditing.note(session, ctx, "mapped a plan to a price outside", subject, *change)
            handing_on.release(session, ctx, HandedUnits.plan_id == plan_id)


def set_subscription_price(ctx: Context, subscription_id: int, price: str, edition: int | None = None) -> None:
    """Say which price one subscription has outside, whatever its plan; nothing for that of its plan. Raises as
    `set_customer` does."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        subscription = locked(session, Subscription, subscription_id)
        if subscription is None:
            raise NotFound("there is no such subscription", str(subscription_id))
        kept = session.get(SubscriptionPrice, subscription_id)
        change = _priced(session, kept, SubscriptionPrice(subscription_id=subscription_id), price, edition)
        if change is not None:
            subject = subscriptions.subject(subscription)._replace(kind="outside billing")
            auditing.note(session, ctx, "mapped a subscription to a price outside", subject, *change)
            handing_on.release(session, ctx, HandedUnits.subscription_id == subscription_id)


def _priced(
    session: Session, kept: Price | None, made: Price, price: str, edition: int | None
) -> tuple[dict[str, str], dict[str, str]] | None:
    """Keep a price in place of what there was: what it was and what it is, where that is something else."""
    wanted = _typed(price, "price")
    before = kept.price if kept is not None else ""
    _unchanged(kept, edition)
    if wanted == before:
        return None
    if kept is None:
        made.price, made.edition = wanted, 1
        session.add(made)
    elif wanted:
        kept.price, kept.edition = wanted, kept.edition + 1
    else:
        session.delete(kept)
    return {"price": before}, {"price": wanted}


def _typed(text: str, field: str) -> str:
    return names.plain(text, field, LONGEST) if text.strip() else ""


def _unchanged(kept: OutsideCustomer | Price | None, edition: int | None) -> None:
    """Raise `Stale` where it is no longer what somebody changes it from."""
    now = kept.edition if kept is not None else 0
    if edition is not None and edition != now:
        current = (kept.customer if isinstance(kept, OutsideCustomer) else kept.price) if kept is not None else ""
        raise Stale(f"was changed meanwhile: it is {current or 'not mapped'} now", "the mapping", current)


def _subscriptions(consumer_id: int) -> Select[int]:
    return select(Subscription.id).join(Application).where(Application.consumer_id == consumer_id)
