"""Asking for a plan."""

from __future__ import annotations

from decimal import Decimal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from calm_tariff.edge.again import Again
from calm_tariff.edge.payment import PaymentIn
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.admit import requests
from calm_tariff.services.admit.portals import handing_over
from calm_tariff.services.admit.requests import RequestView

router = APIRouter(route_class=Again)


class RequestIn(BaseModel):
    """A request for a plan; `expected` are units of a month by meter, `payment` is how it will be paid, where the plan
    can cost something and the organisation has not said that yet."""

    application_id: int
    plan_id: int
    purpose: str
    terms_accepted: bool
    expected: dict[str, Decimal] = Field(default={}, max_length=100)
    payment: PaymentIn | None = None


@router.post("/requests", status_code=201)
def ask(ctx: Asking, typed: RequestIn) -> RequestView:
    """Ask for a plan."""
    handing_over.refuse_here(ctx, typed.plan_id)
    return requests.ask(
        ctx,
        typed.application_id,
        typed.plan_id,
        typed.purpose,
        typed.terms_accepted,
        expected=typed.expected,
        payment=typed.payment.value() if typed.payment else None,
    )


@router.delete("/requests/{request_id}")
def take_back(ctx: Asking, request_id: int) -> RequestView:
    """Take a request back."""
    return requests.take_back(ctx, request_id)
