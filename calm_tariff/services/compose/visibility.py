"""Who sees a product or a plan: everybody, or only some groups of consumers."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Invalid
from calm_tariff.store.compose.groups import ConsumerGroup
from calm_tariff.store.compose.products import Plan, Product


def named(session: Session, ids: Sequence[int]) -> list[ConsumerGroup]:
    """The stored groups of these ids. Raises `Invalid` where one is not there."""
    found = list(session.scalars(select(ConsumerGroup).where(ConsumerGroup.id.in_(ids))))
    if len(found) != len(set(ids)):
        raise Invalid("names a group that is not there", "groups")
    return found


def sees(thing: Product | Plan, mine: frozenset[int]) -> bool:
    """Whether somebody in the groups `mine` may see a product or plan: those of no group are for all."""
    return not thing.groups or any(group.id in mine for group in thing.groups)
