"""One's own subscriptions, and moves of them."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from calm_tariff.core.moves import Kind, When
from calm_tariff.edge.again import Again
from calm_tariff.edge.moves import MoveIn
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.admit import moves
from calm_tariff.services.admit.desk import asking
from calm_tariff.services.admit.desk.asking import MoveAsked
from calm_tariff.services.serve import trials
from calm_tariff.services.settle import differences, own_subscriptions
from calm_tariff.services.settle.differences import Difference
from calm_tariff.services.settle.own_subscriptions import SubscriptionView

router = APIRouter(route_class=Again)


@router.get("/subscriptions/{subscription_id}")
def subscription(ctx: Asking, subscription_id: int) -> SubscriptionView:
    """One subscription in full."""
    return own_subscriptions.one(ctx, subscription_id)


@router.get("/subscriptions/{subscription_id}/difference")
def difference(
    ctx: Asking,
    subscription_id: int,
    kind: Annotated[Kind, Query()],
    when: When = "now",
    plan_id: int | None = None,
) -> Difference:
    """What a move would come to, to the cent."""
    return differences.difference(ctx, subscription_id, MoveAsked(kind=kind, when=when, plan_id=plan_id))


@router.post("/subscriptions/{subscription_id}/moves")
def move(ctx: Asking, subscription_id: int, typed: MoveIn) -> SubscriptionView:
    """Make a move, or ask for it where somebody decides."""
    own_subscriptions.one(ctx, subscription_id)  # another's is none
    trials.end_trial(ctx, subscription_id)  # one that is over already is, before what follows it is moved
    asking.ask_to_move(ctx, subscription_id, typed.value())
    return own_subscriptions.one(ctx, subscription_id)


@router.delete("/subscriptions/{subscription_id}/coming-move")
def take_back(ctx: Asking, subscription_id: int) -> SubscriptionView:
    """Take back what is to come."""
    moves.take_back(ctx, subscription_id)
    return own_subscriptions.one(ctx, subscription_id)
