"""Admit: the desk and the consumers."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel

from calm_tariff.console_api.asking import Asking
from calm_tariff.services import admission, consumers
from calm_tariff.services.admission import Decision, RequestView, RequestWithBackground
from calm_tariff.services.consumers import ConsumerLine, ConsumerView

router = APIRouter(tags=["admit"])


class DecisionIn(BaseModel):
    """A decision on a request, with a note for the consumer."""

    decision: Decision
    note: str = ""


@router.get("/requests")
def list_requests(ctx: Asking, decided: bool = False) -> list[RequestView]:
    """Requests not decided yet, or those decided."""
    return admission.desk(ctx, decided)


@router.get("/requests/{request_id}")
def read_request(ctx: Asking, request_id: int) -> RequestWithBackground:
    """One request with everything in view."""
    return admission.one(ctx, request_id)


@router.post("/requests/{request_id}/decision")
def decide(ctx: Asking, request_id: int, decision: DecisionIn) -> RequestView:
    """Grant or decline."""
    return admission.decide(ctx, request_id, decision.decision, decision.note)


@router.get("/consumers")
def list_consumers(ctx: Asking) -> list[ConsumerLine]:
    """All consumers."""
    return consumers.everyone(ctx)


@router.get("/consumers/{consumer_id}")
def read_consumer(ctx: Asking, consumer_id: int) -> ConsumerView:
    """One consumer with everything of it."""
    return consumers.one(ctx, consumer_id)
