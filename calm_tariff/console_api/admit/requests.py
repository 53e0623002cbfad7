"""The desk."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Any

from fastapi import APIRouter, Depends, Query
from fastapi.responses import Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import EditionIfSaid
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.admit.desk import bulk, conversation, deciding, queue, reasons, undoing
from calm_tariff.services.admit.desk.bulk import Chosen, Outcome, Summary
from calm_tariff.services.admit.desk.deciding import Decision
from calm_tariff.services.admit.desk.grants import Grant, OwnLimit
from calm_tariff.services.admit.desk.queue import Sought
from calm_tariff.services.admit.desk.views import RequestView
from calm_tariff.services.observe import request_in_view
from calm_tariff.services.observe.request_in_view import RequestWithBackground
from calm_tariff.services.serve import trials
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["admit"], route_class=Again)


def sought(
    decided: bool = False,
    product_id: int | None = None,
    mine: bool = False,
    overdue: bool = False,
    state: Annotated[str, Query(max_length=40)] = "",
    undoable: bool = False,
) -> Sought:
    """Which requests are asked for."""
    return Sought(decided=decided, product_id=product_id, mine=mine, overdue=overdue, state=state, undoable=undoable)


Seek = Annotated[Sought, Depends(sought)]


class OwnLimitIn(BaseModel):
    """A limit for the subscription alone, in the shape of a plan's limits, until the end of a day."""

    limit: dict[str, Any]
    until: date


class GrantIn(BaseModel):
    """What is granted otherwise than asked: another plan of the product, free days at first, a limit of its own."""

    plan_id: int | None = None
    trial_days: int | None = None
    override: OwnLimitIn | None = None

    def typed(self) -> Grant:
        """As the service takes it."""
        own = self.override
        limit = OwnLimit(limit=own.limit, until=own.until) if own else None
        return Grant(plan_id=self.plan_id, trial_days=self.trial_days, override=limit)


class DecisionIn(BaseModel):
    """A decision on a request, with a reason and a note for the consumer; `grant` says what is granted otherwise than
    asked, where anything is."""

    decision: Decision
    reason: str = Field(default="", max_length=200)
    note: str = Field(default="", max_length=conversation.LONGEST)
    grant: GrantIn | None = None


class MessageIn(BaseModel):
    """Something to be said; `inside`, to colleagues alone."""

    text: str
    inside: bool = False


class QuestionBackIn(BaseModel):
    """What the consumer is asked."""

    text: str


class HandedIn(BaseModel):
    """Into whose hands; nobody's where nobody is named."""

    person_id: int | None = None


class ChosenIn(BaseModel):
    """A request as it was when it was chosen."""

    request_id: int
    edition: int


class BulkIn(BaseModel):
    """One decision on several requests."""

    requests: list[ChosenIn] = Field(max_length=bulk.MOST)
    decision: Decision
    reason: str = Field(default="", max_length=200)
    note: str = Field(default="", max_length=conversation.LONGEST)

    def chosen(self) -> list[Chosen]:
        """As the service takes them."""
        return [Chosen(request_id=each.request_id, edition=each.edition) for each in self.requests]


@router.get("/requests")
def list_requests(ctx: Asking, asked: Paged, wanted: Seek) -> Page[RequestView]:
    """Requests not decided yet, or those decided. Orders: since, target, weight, consumer, plan, application,
    outcome."""
    return queue.desk(ctx, asked, wanted)


@router.get("/requests.csv", response_class=Response)
def export_requests(ctx: Asking, asked: Paged, wanted: Seek) -> Response:
    """The same as CSV."""
    rows = all_of(lambda part: queue.desk(ctx, part, wanted), asked)
    return as_csv("requests", RequestView, rows, left_out=["agreed"])


@router.post("/requests/summary")
def foresee(ctx: Asking, wanted: BulkIn) -> Summary:
    """What would come of one decision on several requests."""
    return bulk.foresee(ctx, wanted.chosen(), wanted.decision, wanted.note, wanted.reason)


@router.post("/requests/decisions")
def decide_on_several(ctx: Asking, wanted: BulkIn) -> list[Outcome]:
    """Decide alike on several requests, each by itself."""
    chosen = wanted.chosen()
    for each in chosen:
        _end_trial(ctx, each.request_id)
    return bulk.decide(ctx, chosen, wanted.decision, wanted.note, wanted.reason)


@router.get("/requests/{request_id}")
def read_request(ctx: Asking, request_id: int) -> RequestWithBackground:
    """One request with everything in view."""
    return request_in_view.one(ctx, request_id)


@router.post("/requests/{request_id}/decision")
def decide(ctx: Asking, request_id: int, decision: DecisionIn, edition: EditionIfSaid) -> RequestView:
    """Grant or decline."""
    _end_trial(ctx, request_id)
    return deciding.decide(
        ctx,
        request_id,
        decision.decision,
        decision.note,
        reason=decision.reason,
        grant=decision.grant.typed() if decision.grant else None,
        edition=edition,
    )


@router.delete("/requests/{request_id}/decision")
def undo(ctx: Asking, request_id: int) -> RequestView:
    """Take a decision back that nobody has been told of yet."""
    return undoing.undo(ctx, request_id)


@router.post("/requests/{request_id}/telling")
def tell_now(ctx: Asking, request_id: int) -> RequestView:
    """Tell of a decision at once; it cannot be undone any more."""
    return undoing.tell_now(ctx, request_id)


@router.post("/requests/{request_id}/messages", status_code=201)
def say(ctx: Asking, request_id: int, typed: MessageIn) -> RequestView:
    """Write to the consumer, or a note inside."""
    return conversation.say(ctx, request_id, typed.text, inside=typed.inside)


@router.post("/requests/{request_id}/question", status_code=201)
def ask_back(ctx: Asking, request_id: int, typed: QuestionBackIn, edition: EditionIfSaid) -> RequestView:
    """Ask the consumer something; the request rests until it is answered."""
    return conversation.ask_back(ctx, request_id, typed.text, edition)


@router.put("/requests/{request_id}/hands")
def hand_over(ctx: Asking, request_id: int, typed: HandedIn, edition: EditionIfSaid) -> RequestView:
    """Put a request into somebody's hands."""
    return queue.hand_over(ctx, request_id, typed.person_id, edition)


@router.post("/requests/{request_id}/presence")
def look(ctx: Asking, request_id: int) -> list[str]:
    """Say that one has a request open; answers who else has."""
    return queue.look(ctx, request_id)


@router.get("/decline-reasons")
def list_reasons(ctx: Asking) -> list[str]:
    """The reasons for declining that are given again and again."""
    return reasons.everything(ctx)


@router.put("/decline-reasons")
def save_reasons(ctx: Asking, typed: list[str]) -> list[str]:
    """Another list of them."""
    return reasons.save(ctx, typed)


def _end_trial(ctx: Asking, request_id: int) -> None:
    """A trial that is over already is, before what follows it is moved."""
    moving = deciding.moved_by(ctx, request_id)
    if moving is not None:
        trials.end_trial(ctx, moving)
