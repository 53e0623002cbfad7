"""The handoff as it is shown: what is billed outside, how it is mapped, what was sent, and what the outside said."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from typing import Any, Literal

from sqlalchemy import Select, case, func, literal, or_, select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.handoff import next_due
from calm_tariff.core.errors import NotFound
from calm_tariff.core.periods import moment_of
from calm_tariff.services.base import jobs
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.settle.handoff import handing_on, products, sums
from calm_tariff.services.settle.handoff.products import OutsideProductView
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
    OutsideProduct,
    OutsideWord,
    PlanPrice,
    SubscriptionPrice,
)

HandedState = Literal["waiting", "sent", "accepted", "refused"]
# So many tries of a batch are shown.
MOST_TRIES = 50


@dataclass(frozen=True, slots=True, kw_only=True)
class Trouble:
    """Why the last try to hand on failed, how many have since one went well, and when the next one is."""

    said: str
    tries: int
    next_at: datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class HandoffView:
    """The handoff in a few figures: whether anybody bills outside, what is billed there, in which months; how many
    consumers, plans and subscriptions are not mapped; how many events there are by state; when one was accepted last,
    and when the next hour is due."""

    connected: bool
    products: list[OutsideProductView]
    months: list[date]
    unmapped_consumers: int
    unmapped_plans: int
    waiting: int
    sent: int
    accepted: int
    refused: int
    accepted_at: datetime | None
    next_at: datetime
    trouble: Trouble | None


@dataclass(frozen=True, slots=True, kw_only=True)
class MappedConsumer:
    """A consumer with subscriptions that are billed outside: which customer it is there, how that stands, and how many
    events of it wait or were refused. `edition` is 0 where it is not mapped."""

    consumer_id: int
    consumer: str
    customer: str
    name: str
    standing: str
    unpaid_for: str
    subscriptions: int
    waiting: int
    refused: int
    edition: int


@dataclass(frozen=True, slots=True, kw_only=True)
class MappedPlan:
    """A plan whose subscriptions are billed outside: which price they have there, and how many have one of their
    own."""

    plan_id: int
    product: str
    plan: str
    price: str
    subscriptions: int
    own_prices: int
    waiting: int
    refused: int
    edition: int


@dataclass(frozen=True, slots=True, kw_only=True)
class MappedSubscription:
    """A subscription that is billed outside: its own price there, where it has one, and that of its plan."""

    subscription_id: int
    consumer_id: int
    consumer: str
    application: str
    plan: str
    state: str
    own_price: str
    plan_price: str
    edition: int


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


@dataclass(frozen=True, slots=True, kw_only=True)
class OutsideWordView:
    """What the outside said by itself, and what was done about it."""

    id: int
    kind: str
    customer: str
    consumer_id: int | None
    consumer: str
    at: datetime
    heard_at: datetime
    done: bool
    outcome: str


def handoff(ctx: Context, *, connected: bool) -> HandoffView:
    """The handoff in a few figures."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        counts = dict(session.execute(select(HandedUnits.state, func.count()).group_by(HandedUnits.state)).all())
        return HandoffView(
            connected=connected,
            products=products.listed(session),
            months=sums.months(session, ctx),
            unmapped_consumers=_unmapped_consumers(session),
            unmapped_plans=_unmapped_plans(session),
            waiting=counts.get("waiting", 0),
            sent=counts.get("sent", 0),
            accepted=counts.get("accepted", 0),
            refused=counts.get("refused", 0),
            accepted_at=session.scalar(select(func.max(HandedBatch.answered_at)).where(HandedBatch.accepted > 0)),
            next_at=moment_of(next_due(ctx.now_us)),
            trouble=_trouble(session),
        )


def consumers(ctx: Context, wanted: PageQuery) -> Page[MappedConsumer]:
    """A page of consumers with subscriptions that are billed outside. Orders: unmapped (those first), consumer,
    waiting."""
    ctx.actor.must_be(*ROLES)
    waiting, refused = _handed_by(Application.consumer_id)
    query = _consumers().add_columns(waiting, refused)
    if wanted.words:
        sought = (Consumer.name, OutsideCustomer.customer, OutsideCustomer.name)
        query = query.where(or_(*(column.contains(wanted.words, autoescape=True) for column in sought)))
    orders = {
        "unmapped": func.concat(_mapped(OutsideCustomer.customer), Consumer.name),
        "consumer": Consumer.name,
        "waiting": -waiting,
    }
    with ctx.transaction() as session:
        found = page(session, query, Consumer.id, orders, wanted)
        rows = [
            MappedConsumer(
                consumer_id=consumer.id,
                consumer=consumer.name,
                customer=known.customer if known else "",
                name=known.name if known else "",
                standing=known.standing if known else "",
                unpaid_for=known.unpaid_for if known else "",
                subscriptions=many,
                waiting=waits,
                refused=back,
                edition=known.edition if known else 0,
            )
            for consumer, known, many, waits, back in found.rows
        ]
        return Page(rows, found.next, found.total)


def plans(ctx: Context, wanted: PageQuery) -> Page[MappedPlan]:
    """A page of plans whose subscriptions are billed outside. Orders: unmapped (those first), plan."""
    ctx.actor.must_be(*ROLES)
    waiting, refused = _handed_by(HandedUnits.plan_id)
    query = _plans().add_columns(waiting, refused)
    name = func.concat(Product.name, " · ", Plan.name)
    if wanted.words:
        query = query.where(or_(name.contains(wanted.words), PlanPrice.price.contains(wanted.words, autoescape=True)))
    orders = {"unmapped": func.concat(_mapped(PlanPrice.price), name), "plan": name}
    with ctx.transaction() as session:
        found = page(session, query, Plan.id, orders, wanted)
        rows = [
            MappedPlan(
                plan_id=plan.id,
                product=product,
                plan=plan.name,
                price=known.price if known else "",
                subscriptions=many,
                own_prices=own,
                waiting=waits,
                refused=back,
                edition=known.edition if known else 0,
            )
            for plan, product, known, many, own, waits, back in found.rows
        ]
        return Page(rows, found.next, found.total)


def subscriptions(ctx: Context, wanted: PageQuery) -> Page[MappedSubscription]:
    """A page of subscriptions that are billed outside, those with a price of their own first. Orders: own_price,
    consumer."""
    ctx.actor.must_be(*ROLES)
    query = (
        select(
            Subscription,
            Application.name,
            Consumer.id,
            Consumer.name,
            Product.name,
            SubscriptionPrice,
            PlanPrice.price,
        )
        .join(Application, Application.id == Subscription.application_id)
        .join(Consumer, Consumer.id == Application.consumer_id)
        .join(Plan, Plan.id == Subscription.plan_id)
        .join(Product, Product.id == Plan.product_id)
        .outerjoin(SubscriptionPrice, SubscriptionPrice.subscription_id == Subscription.id)
        .outerjoin(PlanPrice, PlanPrice.plan_id == Plan.id)
        .where(Plan.product_id.in_(_billed()))
    )
    if wanted.words:
        sought = (Consumer.name, Application.name, Plan.name, SubscriptionPrice.price)
        query = query.where(or_(*(column.contains(wanted.words, autoescape=True) for column in sought)))
    none = SubscriptionPrice.price.is_(None)
    orders = {"own_price": func.concat(case((none, "1"), else_="0"), Consumer.name), "consumer": Consumer.name}
    with ctx.transaction() as session:
        found = page(session, query, Subscription.id, orders, wanted)
        rows = [
            MappedSubscription(
                subscription_id=of.id,
                consumer_id=consumer_id,
                consumer=consumer,
                application=application,
                plan=f"{product} · {of.plan.name}",
                state=of.state,
                own_price=own.price if own else "",
                plan_price=price or "",
                edition=own.edition if own else 0,
            )
            for of, application, consumer_id, consumer, product, own, price in found.rows
        ]
        return Page(rows, found.next, found.total)


def batches(ctx: Context, wanted: PageQuery) -> Page[HandedBatchView]:
    """A page of batches. Orders: newest, oldest."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        orders = {"newest": -HandedBatch.id, "oldest": HandedBatch.id}
        found = page(session, select(HandedBatch), HandedBatch.id, orders, wanted)
        tries = _tries(session, [each.id for each in found.rows])
        return Page([_batch(each, tries.get(each.id, [])[:1]) for each in found.rows], found.next, found.total)


def one_batch(ctx: Context, batch_id: int) -> HandedBatchView:
    """A batch with its tries. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
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
    with ctx.transaction() as session:
        found = page(session, query, HandedUnits.id, orders, wanted)
        return Page([_event(*row) for row in found.rows], found.next, found.total)


def words(ctx: Context, wanted: PageQuery) -> Page[OutsideWordView]:
    """A page of what the outside said by itself. Orders: newest, oldest."""
    ctx.actor.must_be(*ROLES)
    query = select(OutsideWord, Consumer.name).outerjoin(Consumer, Consumer.id == OutsideWord.consumer_id)
    if wanted.words:
        sought = (Consumer.name, OutsideWord.customer, OutsideWord.outcome)
        query = query.where(or_(*(column.contains(wanted.words, autoescape=True) for column in sought)))
    with ctx.transaction() as session:
        orders = {"newest": -OutsideWord.id, "oldest": OutsideWord.id}
        found = page(session, query, OutsideWord.id, orders, wanted)
        rows = [
            OutsideWordView(
                id=of.id,
                kind=of.kind,
                customer=of.customer,
                consumer_id=of.consumer_id,
                consumer=consumer or "",
                at=of.at,
                heard_at=of.heard_at,
                done=of.done,
                outcome=of.outcome,
            )
            for of, consumer in found.rows
        ]
        return Page(rows, found.next, found.total)


def to_map(session: Session) -> int:
    """How many consumers and plans with subscriptions that are billed outside are not mapped."""
    return _unmapped_consumers(session) + _unmapped_plans(session)


def refused(session: Session) -> list[tuple[str, str]]:
    """The consumers of whom something was refused, each with one reason why."""
    query = (
        select(Consumer.name, func.max(HandedUnits.refused_why))
        .join(Application, Application.consumer_id == Consumer.id)
        .join(Subscription, Subscription.application_id == Application.id)
        .join(HandedUnits, HandedUnits.subscription_id == Subscription.id)
        .where(HandedUnits.state == "refused")
        .group_by(Consumer.id, Consumer.name)
        .order_by(Consumer.name)
    )
    return [(name, why) for name, why in session.execute(query)]


def _billed() -> Select[int]:
    return select(OutsideProduct.product_id)


def _consumers() -> Select[Any]:
    """Consumers with subscriptions that are billed outside, what they are known as there, and how many they have."""
    subscribed = (
        select(Application.consumer_id, func.count().label("many"))
        .join(Subscription, Subscription.application_id == Application.id)
        .join(Plan, Plan.id == Subscription.plan_id)
        .where(Plan.product_id.in_(_billed()))
        .group_by(Application.consumer_id)
        .subquery()
    )
    return (
        select(Consumer, OutsideCustomer, subscribed.c.many)
        .join(subscribed, subscribed.c.consumer_id == Consumer.id)
        .outerjoin(OutsideCustomer, OutsideCustomer.consumer_id == Consumer.id)
    )


def _number_of(*which: Any) -> Any:
    """How many subscriptions to a plan there are, or how many of some."""
    query = select(func.count()).select_from(Subscription).where(Subscription.plan_id == Plan.id, *which)
    return query.correlate(Plan).scalar_subquery()


_MANY = _number_of()
_OWN = _number_of(Subscription.id.in_(select(SubscriptionPrice.subscription_id)))


def _plans() -> Select[Any]:
    """Plans of products that are billed outside, with subscriptions, their price there, and how many those are."""
    return (
        select(Plan, Product.name, PlanPrice, _MANY, _OWN)
        .join(Product, Product.id == Plan.product_id)
        .outerjoin(PlanPrice, PlanPrice.plan_id == Plan.id)
        .where(Plan.product_id.in_(_billed()), _MANY > 0)
    )


def _handed_by(column: Any) -> tuple[Any, Any]:
    """How many events wait and how many were refused, of the consumer or plan of a row."""
    whose = Consumer if column is Application.consumer_id else Plan

    def many(state: str) -> Any:
        query = select(func.count()).select_from(HandedUnits).where(HandedUnits.state == state)
        if whose is Consumer:
            query = query.join(Subscription, Subscription.id == HandedUnits.subscription_id)
            query = query.join(Application, Application.id == Subscription.application_id)
        return query.where(column == whose.id).correlate(whose).scalar_subquery()

    return many("waiting"), many("refused")


def _mapped(column: Any) -> Any:
    """Orders those that are not mapped before the others."""
    return case((column.is_(None), "0"), else_="1")


def _unmapped_consumers(session: Session) -> int:
    return _count(session, _consumers().where(OutsideCustomer.customer.is_(None)))


def _unmapped_plans(session: Session) -> int:
    return _count(session, _plans().where(PlanPrice.price.is_(None), _OWN < _MANY))


def _count(session: Session, query: Select[Any]) -> int:
    return session.scalar(select(func.count()).select_from(query.with_only_columns(literal(1)).subquery())) or 0


def _trouble(session: Session) -> Trouble | None:
    job = jobs.of(session, handing_on.HAND_ON, [handing_on.SUBJECT]).get(handing_on.SUBJECT)
    if job is None or not job.last_error:
        return None
    return Trouble(said=job.last_error.removeprefix("NotTaken: "), tries=job.attempts, next_at=job.run_at)


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
