"""Limits of single subscriptions."""

from __future__ import annotations

from datetime import date
from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.services.admit import overrides
from calm_tariff.services.admit.overrides import HeldLimit, OverrideTyped, OverrideView

router = APIRouter(tags=["admit"], route_class=Again)


class OverrideIn(BaseModel):
    """A limit for one subscription, in the shape of a plan's limits; why, and its last day."""

    limit: dict[str, Any]
    reason: str
    until: date


@router.get("/consumers/{consumer_id}/overrides")
def list_overrides(ctx: Asking, consumer_id: int) -> list[OverrideView]:
    """The limits that stand or stood on single subscriptions of a consumer."""
    return overrides.of_consumer(ctx, consumer_id)


@router.get("/consumers/{consumer_id}/limits")
def list_held_limits(ctx: Asking, consumer_id: int) -> list[HeldLimit]:
    """The plans' limits that hold for a consumer."""
    return overrides.held_by(ctx, consumer_id)


@router.post("/subscriptions/{subscription_id}/overrides", status_code=201)
def make_override(ctx: Asking, subscription_id: int, typed: OverrideIn) -> OverrideView:
    """Put a limit on one subscription, in place of the plan's of the same name."""
    return overrides.make(ctx, subscription_id, OverrideTyped(typed.limit, typed.reason, typed.until))


@router.delete("/overrides/{override_id}")
def lift_override(ctx: Asking, override_id: int) -> OverrideView:
    """End an override at once."""
    return overrides.lift(ctx, override_id)
