"""Billing months and charge runs."""

from __future__ import annotations

from datetime import date

from fastapi import APIRouter
from fastapi.responses import Response

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import IdempotencyKey
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.settle.documents import charging, periods
from calm_tariff.services.settle.documents.charging import RunResult
from calm_tariff.services.settle.documents.periods import PeriodSummary, PeriodView, RunningCharge

router = APIRouter(tags=["settle"], route_class=Again)


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


@router.post("/periods/{start}/run", status_code=201)
def charge(ctx: Asking, start: date, idempotency_key: IdempotencyKey = None) -> RunResult:
    """Turn a closed month's usage into draft invoices."""
    return charging.run(ctx, start, idempotency_key)
