"""The demo's consumers by their owners, who do what the scenario says of them."""

from __future__ import annotations

from sqlalchemy import select

from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.consumers import Consumer, Member


def owner_of(ctx: Context, consumer: str) -> Context:
    """The context of a consumer's owner."""
    with ctx.transaction() as session:
        query = select(Member).join(Consumer, Consumer.id == Member.consumer_id)
        member = session.scalars(query.where(Consumer.name == consumer, Member.role == "owner")).one()
        return ctx.acting(MEMBERS.acting(member))
