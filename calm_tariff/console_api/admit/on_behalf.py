"""What the provider makes for consumers: its people by hand, and its own back end for those of its own site."""

from __future__ import annotations

from decimal import Decimal
from typing import Literal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core.meters import Environment
from calm_tariff.edge.again import Again
from calm_tariff.edge.payment import PaymentIn
from calm_tariff.services.admit import on_behalf
from calm_tariff.services.admit.applications import ApplicationView
from calm_tariff.services.admit.credentials import KeyView, NewKey
from calm_tariff.services.admit.desk.views import RequestView
from calm_tariff.services.admit.on_behalf import ConsumerMade, ConsumerTyped

router = APIRouter(tags=["consumers"], route_class=Again)


class ConsumerIn(BaseModel):
    """An organisation with its owner, who came by a portal (the first, where none is named). Whoever sends this answers
    for the address."""

    organisation: str = Field(max_length=200)
    name: str = Field(max_length=200)
    email: str = Field(max_length=254)
    portal_id: int | None = None


class ApplicationMadeIn(BaseModel):
    """An application for a consumer."""

    name: str = Field(max_length=200)
    purpose: str = Field(default="", max_length=2000)


class SubscriptionIn(BaseModel):
    """A plan for an application, whose terms of use its owner has accepted; `expected` are units of a month by
    meter, `payment` how it will be paid, where the plan can cost something and that is not known yet."""

    plan_id: int
    purpose: str = Field(max_length=2000)
    expected: dict[str, Decimal] = Field(default={}, max_length=100)
    payment: PaymentIn | None = None


class KeyMadeIn(BaseModel):
    """A key or secret for a consumer's application."""

    label: str = Field(max_length=200)
    environment: Environment = "live"
    kind: Literal["key", "secret"] = "key"


class RevokedIn(BaseModel):
    """Why a consumer's key is revoked; its members are told."""

    reason: str = Field(max_length=2000)


@router.post("/consumers", status_code=201)
def make_consumer(ctx: Asking, typed: ConsumerIn) -> ConsumerMade:
    """Make an organisation's account; its owner gets a letter to set a password."""
    return on_behalf.make_consumer(ctx, ConsumerTyped(**typed.model_dump()))


@router.post("/consumers/{consumer_id}/applications", status_code=201)
def make_application(ctx: Asking, consumer_id: int, typed: ApplicationMadeIn) -> ApplicationView:
    """Register an application for a consumer."""
    return on_behalf.make_application(ctx, consumer_id, typed.name, typed.purpose)


@router.post("/applications/{application_id}/keys", status_code=201)
def make_key(ctx: Asking, application_id: int, typed: KeyMadeIn) -> NewKey:
    """A key or secret for a consumer's application, shown this once; its members are told of it."""
    return on_behalf.make_key(ctx, application_id, typed.label, typed.environment, typed.kind)


@router.post("/keys/{key_id}/revocation")
def revoke_key(ctx: Asking, key_id: int, typed: RevokedIn) -> KeyView:
    """Make a consumer's key invalid at once, and tell its members why."""
    return on_behalf.revoke_key(ctx, key_id, typed.reason)


@router.post("/applications/{application_id}/subscriptions", status_code=201)
def subscribe(ctx: Asking, application_id: int, typed: SubscriptionIn) -> RequestView:
    """Subscribe a consumer's application to a plan."""
    paid = typed.payment.value() if typed.payment else None
    return on_behalf.subscribe(ctx, application_id, typed.plan_id, typed.purpose, expected=typed.expected, payment=paid)
