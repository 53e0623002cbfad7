"""What consumers have done with their subscriptions lately."""

from __future__ import annotations

from sqlalchemy import select

from calm_tariff.core.moves import Kind, When
from calm_tariff.services.admit import requests
from calm_tariff.services.admit.requests import MoveAsked
from calm_tariff.services.base.context import Actor, Context
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Consumer, Member
from calm_tariff.store.admit.subscriptions import Subscription

# The consumer and what it did with the one subscription of its first application.
MOVES: tuple[tuple[str, Kind, When], ...] = (
    ("Breakwater Builders", "pause", "now"),
    ("Anchorhold Storage", "end", "later"),
    ("Rowan Regatta", "end", "later"),  # with its trial: it was for one season
)


def move_as_told(ctx: Context) -> None:
    """Make the moves, each by the consumer's owner."""
    for consumer, kind, when in MOVES:
        with ctx.transaction() as session:
            query = (
                select(Subscription.id, Member.id, Member.name, Consumer.id)
                .join(Application, Application.id == Subscription.application_id)
                .join(Consumer, Consumer.id == Application.consumer_id)
                .join(Member, Member.consumer_id == Consumer.id)
                .where(Consumer.name == consumer, Member.role == "owner")
            )
            subscription, member, name, consumer_id = session.execute(query.limit(1)).one()
        owner = Actor(name=name, member_id=member, consumer_id=consumer_id, consumer=consumer, membership="owner")
        requests.ask_to_move(ctx.acting(owner), subscription, MoveAsked(kind=kind, when=when))
