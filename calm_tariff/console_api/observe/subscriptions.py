"""Subscriptions as both sides made them."""

from __future__ import annotations

from fastapi import APIRouter

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.services.observe import subscription_history
from calm_tariff.services.observe.subscription_history import SubscriptionHistory

router = APIRouter(tags=["observe"], route_class=Again)


@router.get("/subscriptions/{subscription_id}/history")
def read_history(ctx: Asking, subscription_id: int) -> SubscriptionHistory:
    """A subscription from its first question to its last invoice."""
    return subscription_history.one(ctx, subscription_id)
