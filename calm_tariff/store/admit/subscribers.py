"""Who is subscribed to what of Compose: asked there before a thing is changed, and shown beside it."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import Row, Select, func, or_, select
from sqlalchemy.orm import Session, aliased

from calm_tariff.core.lifecycles import CALLING
from calm_tariff.core.membership import MAY, STAY, Act
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Consumer, Member
from calm_tariff.store.admit.requests import TermsAccepted
from calm_tariff.store.admit.subscriptions import Stay, Subscription, SubscriptionOverride
from calm_tariff.store.compose.apis import Operation
from calm_tariff.store.compose.products import Plan, PlanRevision, ProductOperation

_CALLS = Subscription.state.in_(CALLING)


def subscriptions_by_product(session: Session) -> dict[int, int]:
    """How many subscriptions let calls through, by product."""
    query = (
        select(Plan.product_id, func.count())
        .join(Subscription, Subscription.plan_id == Plan.id)
        .where(_CALLS)
        .group_by(Plan.product_id)
    )
    return _counts(session, query)


def subscriptions_by_plan(session: Session, product_id: int) -> dict[int, int]:
    """How many subscriptions of a product let calls through, by plan."""
    query = (
        select(Subscription.plan_id, func.count())
        .join(Plan, Plan.id == Subscription.plan_id)
        .where(Plan.product_id == product_id, _CALLS)
        .group_by(Subscription.plan_id)
    )
    return _counts(session, query)


def subscriptions_by_operation(session: Session, operations: Sequence[int]) -> dict[int, int]:
    """How many subscriptions may call each of these operations."""
    query = (
        select(ProductOperation.c.operation_id, func.count())
        .join(Plan, Plan.product_id == ProductOperation.c.product_id)
        .join(Subscription, Subscription.plan_id == Plan.id)
        .where(ProductOperation.c.operation_id.in_(operations), _CALLS)
        .group_by(ProductOperation.c.operation_id)
    )
    return _counts(session, query)


def accepted_by_version(session: Session, product_id: int) -> dict[int, int]:
    """How many consumers have accepted each version of a product's terms of use."""
    query = (
        select(TermsAccepted.number, func.count())
        .where(TermsAccepted.product_id == product_id)
        .group_by(TermsAccepted.number)
    )
    return _counts(session, query)


def consumers_calling(session: Session, version_id: int) -> dict[int, str]:
    """The consumers that may call an API version now: name by id."""
    sold = (
        select(ProductOperation.c.product_id)
        .join(Operation, Operation.id == ProductOperation.c.operation_id)
        .where(Operation.api_version_id == version_id)
    )
    query = (
        select(Consumer.id, Consumer.name)
        .join(Application, Application.consumer_id == Consumer.id)
        .join(Subscription, Subscription.application_id == Application.id)
        .join(Plan, Plan.id == Subscription.plan_id)
        .where(_CALLS, Plan.product_id.in_(sold))
        .distinct()
    )
    return {consumer: name for consumer, name in session.execute(query)}  # noqa: C416


def consumers_subscribed(session: Session, product_id: int) -> set[int]:
    """The consumers with a subscription of a product that has not ended."""
    query = (
        select(Application.consumer_id)
        .join(Subscription, Subscription.application_id == Application.id)
        .join(Plan, Plan.id == Subscription.plan_id)
        .where(Plan.product_id == product_id, Subscription.state != "ended")
    )
    return set(session.scalars(query))


def products_held(session: Session, consumer: int, ended: bool = False) -> set[int]:
    """The products of which a consumer has a subscription that has not ended; of which it ever had one, with
    `ended`."""
    query = (
        select(Plan.product_id)
        .join(Subscription, Subscription.plan_id == Plan.id)
        .join(Application, Application.id == Subscription.application_id)
        .where(Application.consumer_id == consumer)
    )
    return set(session.scalars(query if ended else query.where(Subscription.state != "ended")))


def members_of(session: Session, consumers: Collection[int]) -> list[Member]:
    """Everybody of these consumers: of a closed account, whoever can still sign in to it."""
    return list(session.scalars(_members(consumers)))


def members_who_may(session: Session, consumer: int, act: Act) -> list[Member]:
    """Everybody of a consumer whose role allows an act."""
    return list(session.scalars(_members([consumer]).where(Member.role.in_(MAY[act]))))


def _members(consumers: Collection[int]) -> Select[Member]:
    """Those of a consumer that was merged into another are there."""
    meant = aliased(Consumer)
    where = select(func.coalesce(meant.merged_into_id, meant.id)).where(meant.id.in_(consumers))
    heard = (Consumer.state != "closed") | Member.role.in_(STAY)
    query = select(Member).join(Consumer, Consumer.id == Member.consumer_id)
    return query.where(Member.consumer_id.in_(where), Member.left_at.is_(None), heard).order_by(Member.id)


def revisions_in_force(session: Session, now: datetime) -> Iterator[Row[Consumer, PlanRevision]]:
    """Each subscription's consumer and the revision it is under now, where it lets calls through."""
    query = (
        select(Consumer, PlanRevision)
        .join(Application, Application.consumer_id == Consumer.id)
        .join(Subscription, Subscription.application_id == Application.id)
        .join(Stay, Stay.subscription_id == Subscription.id)
        .join(PlanRevision, PlanRevision.id == Stay.revision_id)
        .where(_CALLS, Stay.start_at <= now, or_(Stay.end_at.is_(None), Stay.end_at > now))
    )
    yield from session.execute(query)


def revisions_held(now: datetime) -> Select[int]:
    """The ids of revisions that somebody is under, or will be."""
    return select(Stay.revision_id).where(or_(Stay.end_at.is_(None), Stay.end_at > now))


def limits_overridden(session: Session, now: datetime) -> list[dict[str, Any]]:
    """The limits that stand on single subscriptions now, as they are stored."""
    current = SubscriptionOverride.ends_at > now, SubscriptionOverride.lifted_at.is_(None)
    return list(session.scalars(select(SubscriptionOverride.limit).where(*current)))


def _counts(session: Session, query: Select[int, int]) -> dict[int, int]:
    return {key: count for key, count in session.execute(query)}  # noqa: C416
