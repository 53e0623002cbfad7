"""Admit: the desk and the consumers."""

from __future__ import annotations

from datetime import date
from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import BaseModel

from calm_tariff.console_api.asking import Asking
from calm_tariff.edge.lists import Asked, all_of, as_csv
from calm_tariff.services import admission, consumers, overrides
from calm_tariff.services.admission import Decision, RequestView, RequestWithBackground
from calm_tariff.services.consumers import ConsumerLine, ConsumerView
from calm_tariff.services.overrides import HeldLimit, OverrideTyped, OverrideView
from calm_tariff.store.paging import Page

router = APIRouter(tags=["admit"])


class DecisionIn(BaseModel):
    """A decision on a request, with a note for the consumer."""

    decision: Decision
    note: str = ""


class OverrideIn(BaseModel):
    """A limit for one subscription, in the shape of a plan's limits; why, and its last day."""

    limit: dict[str, Any]
    reason: str
    until: date


@router.get("/requests")
def list_requests(ctx: Asking, asked: Asked, decided: bool = False) -> Page[RequestView]:
    """Requests not decided yet, or those decided. Orders: since, consumer, plan, application, outcome."""
    return admission.desk(ctx, asked, decided)


@router.get("/requests.csv", response_class=Response)
def export_requests(ctx: Asking, asked: Asked, decided: bool = False) -> Response:
    """The same as CSV."""
    return as_csv("requests", RequestView, all_of(lambda part: admission.desk(ctx, part, decided), asked))


@router.get("/requests/{request_id}")
def read_request(ctx: Asking, request_id: int) -> RequestWithBackground:
    """One request with everything in view."""
    return admission.one(ctx, request_id)


@router.post("/requests/{request_id}/decision")
def decide(ctx: Asking, request_id: int, decision: DecisionIn) -> RequestView:
    """Grant or decline."""
    return admission.decide(ctx, request_id, decision.decision, decision.note)


@router.get("/consumers")
def list_consumers(ctx: Asking, asked: Asked) -> Page[ConsumerLine]:
    """Consumers. Orders: name, since, served, refused."""
    return consumers.listed(ctx, asked)


@router.get("/consumers.csv", response_class=Response)
def export_consumers(ctx: Asking, asked: Asked) -> Response:
    """The same as CSV."""
    return as_csv("consumers", ConsumerLine, all_of(lambda part: consumers.listed(ctx, part), asked))


@router.get("/consumers/{consumer_id}")
def read_consumer(ctx: Asking, consumer_id: int) -> ConsumerView:
    """One consumer with everything of it."""
    return consumers.one(ctx, consumer_id)


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
