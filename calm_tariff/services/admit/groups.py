"""Groups of consumers: who may see what others may not even name."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import delete, insert, select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core import names
from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.admit.consumers import Consumer, ConsumerInGroup
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.groups import ConsumerGroup
from calm_tariff.store.compose.products import Plan, Product


@dataclass(frozen=True, slots=True)
class GroupView:
    """A group: its consumers by name, and the products and plans that only it sees."""

    id: int
    name: str
    consumers: list[str]
    consumer_ids: list[int]
    sees: list[str]


def everything(ctx: Context) -> list[GroupView]:
    """All groups by name."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return _views(session)


def create(ctx: Context, name: str) -> GroupView:
    """A new, empty group. Raises `Invalid` or `Conflict`."""
    ctx.actor.must_be("product manager", "reviewer")
    name = names.plain(name, "name")
    with ctx.transaction() as session:
        if session.scalar(select(ConsumerGroup).where(ConsumerGroup.name == name)):
            raise Conflict(f"there is already a group {name!r}", "name")
        made = ConsumerGroup(name=name)
        session.add(made)
        session.flush()
        auditing.note(session, ctx, "made a group", ("group", made.id, name))
        return GroupView(made.id, name, [], [], [])


def set_members(ctx: Context, group_id: int, consumers: Sequence[int]) -> GroupView:
    """Make a group of just these consumers. Raises `NotFound` or `Invalid`."""
    ctx.actor.must_be("product manager", "reviewer")
    with ctx.transaction() as session:
        group = locked(session, ConsumerGroup, group_id)
        if group is None:
            raise NotFound("there is no such group", str(group_id))
        found = list(session.scalars(select(Consumer).where(Consumer.id.in_(consumers))))
        if len(found) != len(set(consumers)):
            raise Invalid("names a consumer that is not there", "consumers")
        before = [consumer.name for consumer in _members(session).get(group_id, [])]
        session.execute(delete(ConsumerInGroup).where(ConsumerInGroup.c.group_id == group_id))
        if found:
            session.execute(insert(ConsumerInGroup), [{"group_id": group_id, "consumer_id": c.id} for c in found])
        auditing.note(
            session,
            ctx,
            "changed a group",
            ("group", group.id, group.name),
            before={"consumers": before},
            after={"consumers": sorted(c.name for c in found)},
        )
        return next(v for v in _views(session) if v.id == group_id)


def join(session: Session, ctx: Context, consumer: Consumer, wanted: Sequence[ConsumerGroup]) -> None:
    """Put a consumer, which is held, into groups beside those it is in."""
    before = sorted(group.name for group in consumer.groups)
    consumer.groups.extend(group for group in wanted if group not in consumer.groups)
    after = sorted(group.name for group in consumer.groups)
    subject = ("consumer", consumer.id, consumer.name)
    auditing.note(session, ctx, "put a consumer into groups", subject, {"groups": before}, {"groups": after})
    session.flush()


def of_consumer(session: Session, consumer_id: int | None) -> frozenset[int]:
    """The groups a consumer is in; none for somebody who has not signed in."""
    if consumer_id is None:
        return frozenset()
    query = select(ConsumerInGroup.c.group_id).where(ConsumerInGroup.c.consumer_id == consumer_id)
    return frozenset(session.scalars(query))


def _views(session: Session) -> list[GroupView]:
    seen: dict[int, list[str]] = {}
    for product in session.scalars(select(Product).options(selectinload(Product.groups))):
        for group in product.groups:
            seen.setdefault(group.id, []).append(product.name)
    for plan in session.scalars(select(Plan).options(selectinload(Plan.groups))):
        for group in plan.groups:
            seen.setdefault(group.id, []).append(f"{plan.product.name} · {plan.name}")
    members = _members(session)
    made = []
    for group in session.scalars(select(ConsumerGroup).order_by(ConsumerGroup.name)):
        own = members.get(group.id, [])
        made.append(
            GroupView(group.id, group.name, [c.name for c in own], [c.id for c in own], sorted(seen.get(group.id, [])))
        )
    return made


def _members(session: Session) -> dict[int, list[Consumer]]:
    """The consumers of every group that has some, by name."""
    query = (
        select(ConsumerInGroup.c.group_id, Consumer)
        .join(Consumer, Consumer.id == ConsumerInGroup.c.consumer_id)
        .order_by(Consumer.name)
    )
    found: dict[int, list[Consumer]] = {}
    for group, consumer in session.execute(query):
        found.setdefault(group, []).append(consumer)
    return found
