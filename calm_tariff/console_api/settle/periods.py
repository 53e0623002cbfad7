"""Billing months, charge runs, and what is looked through before it is issued."""

from __future__ import annotations

from datetime import date
from functools import partial

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import IdempotencyKey
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.settle.periods import charging, periods, reckoning, reviewing
from calm_tariff.services.settle.periods.charging import RunView
from calm_tariff.services.settle.periods.periods import PeriodSummary, PeriodView, RunningCharge
from calm_tariff.services.settle.periods.reviewing import DraftRow, Drafts

router = APIRouter(tags=["settle"], route_class=Again)


class HoldIn(BaseModel):
    """Why a draft is held back."""

    why: str = Field(max_length=2000)


@router.get("/periods")
def list_periods(ctx: Asking) -> list[PeriodSummary]:
    """Billing months, newest first."""
    return periods.everything(ctx)


@router.get("/periods/{start}")
def read_period(ctx: Asking, start: date, asked: Paged) -> PeriodView:
    """One billing month with a page of its charges. Orders: consumer, invoice, state, charge."""
    return periods.one(ctx, start, asked)


@router.get("/periods/{start}/charges.csv", response_class=Response)
def export_period(ctx: Asking, start: date, asked: Paged) -> Response:
    """A billing month's charges, before tax, as CSV."""
    rows = all_of(periods.pages(ctx, start), asked)
    return as_csv(f"charges-{start}", RunningCharge, rows, left_out=("consumer_id", "invoice_id"))


@router.get("/periods/{start}/drafts")
def read_drafts(ctx: Asking, start: date, asked: Paged) -> Drafts:
    """A page of a month's drafts, what is out of the ordinary first. Orders: ordinary, consumer, charge, last month."""
    return reviewing.drafts(ctx, start, asked)


@router.get("/periods/{start}/drafts.csv", response_class=Response)
def export_drafts(ctx: Asking, start: date, asked: Paged) -> Response:
    """A month's drafts, before tax, as CSV."""
    rows = all_of(partial(reviewing.listed, ctx, start), asked)
    return as_csv(f"drafts-{start}", DraftRow, rows, left_out=("consumer_id", "invoice_id"))


@router.post("/periods/{start}/reckoning", status_code=202)
def reckon(ctx: Asking, start: date) -> None:
    """Have what a month comes to for everybody reckoned now: it is done every five minutes without being asked."""
    reckoning.ask(ctx, start)


@router.post("/periods/{start}/run", status_code=202)
def charge(ctx: Asking, start: date, idempotency_key: IdempotencyKey = None) -> RunView:
    """Have a month's usage turned into draft invoices."""
    return charging.begin(ctx, start, idempotency_key)


@router.post("/periods/{start}/issue", status_code=202)
def issue_drafts(ctx: Asking, start: date, idempotency_key: IdempotencyKey = None) -> RunView:
    """Have a month's drafts issued, but those that are held back."""
    return charging.begin_issuing(ctx, start, idempotency_key)


@router.get("/charge-runs/{run_id}")
def read_run(ctx: Asking, run_id: int) -> RunView:
    """A charge run as far as it is."""
    return charging.one(ctx, run_id)


@router.post("/charge-runs/{run_id}/stop")
def stop_run(ctx: Asking, run_id: int) -> RunView:
    """Stop a charge run: what came of it stays."""
    return charging.stop(ctx, run_id)


@router.post("/charge-runs/{run_id}/resume")
def resume_run(ctx: Asking, run_id: int) -> RunView:
    """Go on with a charge run that was stopped."""
    return charging.resume(ctx, run_id)


@router.put("/invoices/{invoice_id}/held-back", status_code=204)
def hold_back(ctx: Asking, invoice_id: int, typed: HoldIn) -> None:
    """Hold a draft back: it is not issued until somebody lets it go."""
    reviewing.hold_back(ctx, invoice_id, typed.why)


@router.delete("/invoices/{invoice_id}/held-back", status_code=204)
def let_go(ctx: Asking, invoice_id: int) -> None:
    """Have a draft issued with the others again."""
    reviewing.let_go(ctx, invoice_id)
