"""How consumers, plans and subscriptions that are billed outside are mapped, as it is shown."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Select, case, func, literal, or_, select
from sqlalchemy.orm import Session

from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.compose.products import Plan, Product
from calm_tariff.store.settle.handoff import (
    HandedUnits,
    OutsideCustomer,
    OutsideProduct,
    PlanPrice,
    SubscriptionPrice,
)


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
    with ctx.reading() as session:
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
    with ctx.reading() as session:
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
    with ctx.reading() as session:
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


def to_map(session: Session) -> int:
    """How many consumers and plans with subscriptions that are billed outside are not mapped."""
    return unmapped_consumers(session) + unmapped_plans(session)


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


def unmapped_consumers(session: Session) -> int:
    """How many consumers with subscriptions that are billed outside are no customer there."""
    return _count(session, _consumers().where(OutsideCustomer.customer.is_(None)))


def unmapped_plans(session: Session) -> int:
    """How many plans have subscriptions that are billed outside and have no price there."""
    return _count(session, _plans().where(PlanPrice.price.is_(None), _OWN < _MANY))


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


def _count(session: Session, query: Select[Any]) -> int:
    return session.scalar(select(func.count()).select_from(query.with_only_columns(literal(1)).subquery())) or 0
