"""What was handed on, as it is shown: batch by batch, and hour by hour."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from typing import Literal

from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.settle.handoff import handing_on
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan, Product
from calm_tariff.store.settle.handoff import (
    HandedBatch,
    HandedTry,
    HandedUnits,
    OutsideCustomer,
    PlanPrice,
    SubscriptionPrice,
)

HandedState = Literal["waiting", "sent", "accepted", "refused"]


# So many tries of a batch are shown.
MOST_TRIES = 50


@dataclass(frozen=True, slots=True, kw_only=True)
class HandedTryView:
    """One try to hand a batch on."""

    at: datetime
    taken: bool
    said: str
    took_ms: int


@dataclass(frozen=True, slots=True, kw_only=True)
class HandedBatchView:
    """A batch: how many events it was sent with, and of how many it was answered what; its tries, the latest first."""

    id: int
    made_at: datetime
    answered_at: datetime | None
    events: int
    accepted: int
    refused: int
    tries: list[HandedTryView]


@dataclass(frozen=True, slots=True, kw_only=True)
class HandedEventView:
    """What is told of an hour, and what became of it. `missing` says what it lacks to be sent: a customer, a price, or
    both."""

    id: int
    event_id: str
    hour_us: int
    revision: int
    consumer_id: int
    consumer: str
    application: str
    subscription_id: int
    plan: str
    meter_id: int
    meter: str
    units: Decimal
    trial: bool
    state: str
    customer: str
    price: str
    batch_id: int | None
    answered_at: datetime | None
    refused_why: str
    missing: str


def batches(ctx: Context, wanted: PageQuery) -> Page[HandedBatchView]:
    """A page of batches. Orders: newest, oldest."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        orders = {"newest": -HandedBatch.id, "oldest": HandedBatch.id}
        found = page(session, select(HandedBatch), HandedBatch.id, orders, wanted)
        tries = _tries(session, [each.id for each in found.rows])
        return Page([_batch(each, tries.get(each.id, [])[:1]) for each in found.rows], found.next, found.total)


def one_batch(ctx: Context, batch_id: int) -> HandedBatchView:
    """A batch with its tries. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        found = session.get(HandedBatch, batch_id)
        if found is None:
            raise NotFound("there is no such batch", str(batch_id))
        return _batch(found, _tries(session, [batch_id]).get(batch_id, [])[:MOST_TRIES])


def events(
    ctx: Context, wanted: PageQuery, state: HandedState | None = None, batch_id: int | None = None
) -> Page[HandedEventView]:
    """A page of what is told of hours: of all, of those in a state, or of those in a batch. Orders: newest, oldest,
    hour."""
    ctx.actor.must_be(*ROLES)
    query = (
        select(
            HandedUnits,
            Consumer.id,
            Consumer.name,
            Application.name,
            func.concat(Product.name, " · ", Plan.name),
            Meter.name,
            handing_on.CUSTOMER,
            handing_on.PRICE,
        )
        .join(Subscription, Subscription.id == HandedUnits.subscription_id)
        .join(Application, Application.id == Subscription.application_id)
        .join(Consumer, Consumer.id == Application.consumer_id)
        .join(Plan, Plan.id == HandedUnits.plan_id)
        .join(Product, Product.id == Plan.product_id)
        .join(Meter, Meter.id == HandedUnits.meter_id)
        .outerjoin(OutsideCustomer, OutsideCustomer.consumer_id == Consumer.id)
        .outerjoin(SubscriptionPrice, SubscriptionPrice.subscription_id == Subscription.id)
        .outerjoin(PlanPrice, PlanPrice.plan_id == HandedUnits.plan_id)
    )
    if state is not None:
        query = query.where(HandedUnits.state == state)
    if batch_id is not None:
        query = query.where(HandedUnits.batch_id == batch_id)
    if wanted.words:
        sought = (Consumer.name, Application.name, HandedUnits.refused_why, HandedUnits.customer)
        query = query.where(or_(*(column.contains(wanted.words, autoescape=True) for column in sought)))
    orders = {"newest": -HandedUnits.id, "oldest": HandedUnits.id, "hour": HandedUnits.hour_us}
    with ctx.reading() as session:
        found = page(session, query, HandedUnits.id, orders, wanted)
        return Page([_event(*row) for row in found.rows], found.next, found.total)


def _tries(session: Session, batch_ids: Sequence[int]) -> dict[int, list[HandedTryView]]:
    found: dict[int, list[HandedTryView]] = {}
    query = select(HandedTry).where(HandedTry.batch_id.in_(batch_ids)).order_by(HandedTry.id.desc())
    for each in session.scalars(query):
        view = HandedTryView(at=each.at, taken=each.taken, said=each.said, took_ms=each.took_ms)
        found.setdefault(each.batch_id, []).append(view)
    return found


def _batch(of: HandedBatch, tries: Sequence[HandedTryView]) -> HandedBatchView:
    return HandedBatchView(
        id=of.id,
        made_at=of.made_at,
        answered_at=of.answered_at,
        events=of.events,
        accepted=of.accepted,
        refused=of.refused,
        tries=list(tries),
    )


def _event(
    of: HandedUnits,
    consumer_id: int,
    consumer: str,
    application: str,
    plan: str,
    meter: str,
    customer: str | None,
    price: str | None,
) -> HandedEventView:
    waits = of.state == "waiting"
    lacks = [name for name, value in (("customer", customer), ("price", price)) if waits and not value]
    return HandedEventView(
        id=of.id,
        event_id=of.event_id,
        hour_us=of.hour_us,
        revision=of.revision,
        consumer_id=consumer_id,
        consumer=consumer,
        application=application,
        subscription_id=of.subscription_id,
        plan=plan,
        meter_id=of.meter_id,
        meter=meter,
        units=of.units,
        trial=of.trial,
        state=of.state,
        customer=of.customer or (customer or "" if waits else ""),
        price=of.price or (price or "" if waits else ""),
        batch_id=of.batch_id,
        answered_at=of.answered_at,
        refused_why=of.refused_why,
        missing=" and ".join(lacks),
    )
