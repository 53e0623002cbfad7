"""Moves of consumers' subscriptions by the provider's people."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core.moves import Kind, When
from calm_tariff.edge.again import Again
from calm_tariff.edge.moves import MoveIn
from calm_tariff.services.admit.desk.asking import MoveAsked
from calm_tariff.services.settle import moves_on_behalf
from calm_tariff.services.settle.differences import Difference
from calm_tariff.services.settle.own_subscriptions import SubscriptionView

router = APIRouter(tags=["consumers"], route_class=Again)


@router.get("/subscriptions/{subscription_id}")
def subscription(ctx: Asking, subscription_id: int) -> SubscriptionView:
    """One subscription in full, as its owner sees it."""
    return moves_on_behalf.one(ctx, subscription_id)


@router.get("/subscriptions/{subscription_id}/difference")
def difference(
    ctx: Asking,
    subscription_id: int,
    kind: Annotated[Kind, Query()],
    when: When = "now",
    plan_id: int | None = None,
) -> Difference:
    """What a move would come to, to the cent."""
    return moves_on_behalf.difference(ctx, subscription_id, MoveAsked(kind=kind, when=when, plan_id=plan_id))


@router.post("/subscriptions/{subscription_id}/moves")
def move(ctx: Asking, subscription_id: int, typed: MoveIn) -> SubscriptionView:
    """Make a move; where more than one decides on it, it waits for the others."""
    return moves_on_behalf.move(ctx, subscription_id, typed.value())


@router.delete("/subscriptions/{subscription_id}/coming-move")
def take_back(ctx: Asking, subscription_id: int) -> SubscriptionView:
    """Take back what is to come."""
    return moves_on_behalf.take_back(ctx, subscription_id)
