"""The desk."""

from __future__ import annotations

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import BaseModel

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.admit import requests
from calm_tariff.services.admit.requests import Decision, RequestView
from calm_tariff.services.observe import request_in_view
from calm_tariff.services.observe.request_in_view import RequestWithBackground
from calm_tariff.services.serve import trials
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["admit"], route_class=Again)


class DecisionIn(BaseModel):
    """A decision on a request, with a note for the consumer."""

    decision: Decision
    note: str = ""


@router.get("/requests")
def list_requests(ctx: Asking, asked: Paged, decided: bool = False) -> Page[RequestView]:
    """Requests not decided yet, or those decided. Orders: since, consumer, plan, application, outcome."""
    return requests.desk(ctx, asked, decided)


@router.get("/requests.csv", response_class=Response)
def export_requests(ctx: Asking, asked: Paged, decided: bool = False) -> Response:
    """The same as CSV."""
    return as_csv("requests", RequestView, all_of(lambda part: requests.desk(ctx, part, decided), asked))


@router.get("/requests/{request_id}")
def read_request(ctx: Asking, request_id: int) -> RequestWithBackground:
    """One request with everything in view."""
    return request_in_view.one(ctx, request_id)


@router.post("/requests/{request_id}/decision")
def decide(ctx: Asking, request_id: int, decision: DecisionIn) -> RequestView:
    """Grant or decline."""
    moving = requests.moved_by(ctx, request_id)
    if moving is not None:
        trials.end_trial(ctx, moving)  # one that is over already is, before what follows it is moved
    return requests.decide(ctx, request_id, decision.decision, decision.note)
