"""One's alerts."""

from __future__ import annotations

from decimal import Decimal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from calm_tariff.edge.again import Again
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.observe import alerts
from calm_tariff.services.observe.alerts import Alerts, AlertTyped, HookMade

router = APIRouter(route_class=Again)


class AlertIn(BaseModel):
    """An alert to set: at so many percent of an allowance of a subscription, or at an amount of the month's charge."""

    subscription_id: int | None = None
    allowance: str | None = Field(default=None, max_length=200)
    percent: int | None = None
    amount: Decimal | None = None


class HookIn(BaseModel):
    """Where alerts are to be sent."""

    url: str = Field(max_length=200)


@router.get("/alerts")
def own(ctx: Asking) -> Alerts:
    """One's alerts, and where they are sent besides."""
    return alerts.own(ctx)


@router.post("/alerts", status_code=201)
def make(ctx: Asking, typed: AlertIn) -> Alerts:
    """Set an alert."""
    return alerts.make(ctx, AlertTyped(**typed.model_dump()))


@router.delete("/alerts/{alert_id}")
def take_away(ctx: Asking, alert_id: int) -> Alerts:
    """Take an alert away."""
    return alerts.take_away(ctx, alert_id)


@router.put("/alert-hook")
def set_hook(ctx: Asking, typed: HookIn) -> HookMade:
    """Have alerts sent as webhooks, too. What they are signed with is in this answer only."""
    return alerts.set_hook(ctx, typed.url)


@router.delete("/alert-hook", status_code=204)
def drop_hook(ctx: Asking) -> None:
    """Have alerts sent as webhooks no more."""
    alerts.drop_hook(ctx)
