"""What consumers have done with their subscriptions lately."""

from __future__ import annotations

from sqlalchemy import select

from calm_tariff.core.moves import Kind, When
from calm_tariff.demo.owners import owner_of
from calm_tariff.services.admit.desk import asking
from calm_tariff.services.admit.desk.asking import MoveAsked
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.applications import Application
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
        owner = owner_of(ctx, consumer)
        with ctx.transaction() as session:
            query = select(Subscription.id).join(Application, Application.id == Subscription.application_id)
            subscription = session.scalars(
                query.where(Application.consumer_id == owner.actor.consumer_id).limit(1)
            ).one()
        asking.ask_to_move(owner, subscription, MoveAsked(kind=kind, when=when))
