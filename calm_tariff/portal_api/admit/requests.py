"""Asking for a plan."""

from __future__ import annotations

from decimal import Decimal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from calm_tariff.edge.again import Again
from calm_tariff.edge.payment import PaymentIn
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.admit.desk import asking, conversation, own_requests
from calm_tariff.services.admit.desk.own_requests import OwnRequest
from calm_tariff.services.admit.portals import handing_over

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


class AnswerIn(BaseModel):
    """What is said about a request."""

    text: str


@router.post("/requests", status_code=201)
def ask(ctx: Asking, typed: RequestIn) -> OwnRequest:
    """Ask for a plan."""
    handing_over.refuse_here(ctx, typed.plan_id)
    made = asking.ask(
        ctx,
        typed.application_id,
        typed.plan_id,
        typed.purpose,
        typed.terms_accepted,
        expected=typed.expected,
        payment=typed.payment.value() if typed.payment else None,
    )
    return own_requests.one(ctx, made.id)


@router.get("/requests/{request_id}")
def read_request(ctx: Asking, request_id: int) -> OwnRequest:
    """Where a request stands, what comes next, and all that was said about it."""
    return own_requests.one(ctx, request_id)


@router.post("/requests/{request_id}/messages", status_code=201)
def say(ctx: Asking, request_id: int, typed: AnswerIn) -> OwnRequest:
    """Write about a request; where something was asked, this answers it."""
    conversation.answer(ctx, request_id, typed.text)
    return own_requests.one(ctx, request_id)


@router.delete("/requests/{request_id}")
def take_back(ctx: Asking, request_id: int) -> OwnRequest:
    """Take a request back."""
    asking.take_back(ctx, request_id)
    return own_requests.one(ctx, request_id)
