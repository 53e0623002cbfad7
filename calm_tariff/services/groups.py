"""Groups of consumers: who may see what others may not even name."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core import names
from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.services import auditing
from calm_tariff.services.context import ROLES, Context
from calm_tariff.store.catalogue import Plan, Product
from calm_tariff.store.people import Consumer, ConsumerGroup, ConsumerInGroup


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
    with ctx.transaction() as session:
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
        group = session.get(ConsumerGroup, group_id, with_for_update={"of": ConsumerGroup})
        if group is None:
            raise NotFound("there is no such group", str(group_id))
        found = list(session.scalars(select(Consumer).where(Consumer.id.in_(consumers))))
        if len(found) != len(set(consumers)):
            raise Invalid("names a consumer that is not there", "consumers")
        before = [c.name for c in group.consumers]
        group.consumers = found
        session.flush()
        auditing.note(
            session, ctx, "changed a group", ("group", group.id, group.name), {"consumers": before},
            {"consumers": sorted(c.name for c in found)},
        )  # fmt: skip
        return next(v for v in _views(session) if v.id == group_id)


def named(session: Session, ids: Sequence[int]) -> list[ConsumerGroup]:
    """The stored groups of these ids. Raises `Invalid` where one is not there."""
    found = list(session.scalars(select(ConsumerGroup).where(ConsumerGroup.id.in_(ids))))
    if len(found) != len(set(ids)):
        raise Invalid("names a group that is not there", "groups")
    return found


def of_consumer(session: Session, consumer_id: int | None) -> frozenset[int]:
    """The groups a consumer is in; none for somebody who has not signed in."""
    if consumer_id is None:
        return frozenset()
    query = select(ConsumerInGroup.c.group_id).where(ConsumerInGroup.c.consumer_id == consumer_id)
    return frozenset(session.scalars(query))


def sees(thing: Product | Plan, mine: frozenset[int]) -> bool:
    """Whether somebody in the groups `mine` may see a product or plan: those of no group are for all."""
    return not thing.groups or any(group.id in mine for group in thing.groups)


def _views(session: Session) -> list[GroupView]:
    seen: dict[int, list[str]] = {}
    for product in session.scalars(select(Product).options(selectinload(Product.groups))):
        for group in product.groups:
            seen.setdefault(group.id, []).append(product.name)
    for plan in session.scalars(select(Plan).options(selectinload(Plan.groups))):
        for group in plan.groups:
            seen.setdefault(group.id, []).append(f"{plan.product.name} · {plan.name}")
    query = select(ConsumerGroup).options(selectinload(ConsumerGroup.consumers)).order_by(ConsumerGroup.name)
    return [
        GroupView(
            g.id, g.name, [c.name for c in g.consumers], [c.id for c in g.consumers], sorted(seen.get(g.id, []))
        )
        for g in session.scalars(query)
    ]  # fmt: skip
