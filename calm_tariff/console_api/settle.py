"""Settle: periods, charge runs and invoices."""

from __future__ import annotations

from datetime import date
from typing import Any

from fastapi import APIRouter
from fastapi.responses import JSONResponse, Response
from pydantic import BaseModel

from calm_tariff.console_api.asking import Asking
from calm_tariff.edge.asking import IdempotencyKey
from calm_tariff.edge.lists import Asked, all_of, as_csv
from calm_tariff.services import charging, invoices
from calm_tariff.services.charging import PeriodSummary, PeriodView, RunningCharge, RunResult
from calm_tariff.services.invoices import DayUnits, InvoiceView

router = APIRouter(tags=["settle"])


class IssueIn(BaseModel):
    """Draft invoices to issue."""

    invoices: list[int]


class Issued(BaseModel):
    """How many were issued."""

    issued: int


@router.get("/periods")
def list_periods(ctx: Asking) -> list[PeriodSummary]:
    """Billing months, newest first."""
    return charging.periods(ctx)


@router.get("/periods/{start}")
def read_period(ctx: Asking, start: date, asked: Asked) -> PeriodView:
    """One billing month with a page of its charges. Orders: consumer, invoice, state, charge."""
    return charging.one(ctx, start, asked)


@router.get("/periods/{start}/charges.csv", response_class=Response)
def export_period(ctx: Asking, start: date, asked: Asked) -> Response:
    """A billing month's charges, before tax, as CSV."""
    rows = all_of(charging.pages(ctx, start), asked)
    return as_csv(f"charges-{start}", RunningCharge, rows, left_out=("consumer_id", "invoice_id"))


@router.post("/periods/{start}/run", status_code=201)
def charge(ctx: Asking, start: date, idempotency_key: IdempotencyKey = None) -> RunResult:
    """Turn a closed month's usage into draft invoices."""
    return charging.run(ctx, start, idempotency_key)


@router.post("/invoices/issue")
def issue(ctx: Asking, which: IssueIn, idempotency_key: IdempotencyKey = None) -> Issued:
    """Issue draft invoices."""
    return Issued(issued=charging.issue(ctx, which.invoices, idempotency_key))


@router.get("/invoices/{invoice_id}")
def read_invoice(ctx: Asking, invoice_id: int) -> InvoiceView:
    """One invoice with its lines."""
    return invoices.one(ctx, invoice_id)


@router.get("/invoices/{invoice_id}/evidence")
def read_evidence(ctx: Asking, invoice_id: int) -> JSONResponse:
    """The evidence file: `./calm rate` computes the invoice from it again."""
    return evidence_file(invoice_id, invoices.evidence(ctx, invoice_id))


@router.get("/lines/{line_id}/days")
def read_days(ctx: Asking, line_id: int) -> list[DayUnits]:
    """The days behind a usage line."""
    return invoices.days(ctx, line_id)


def evidence_file(invoice_id: int, evidence: dict[str, Any]) -> JSONResponse:
    """A rating case as a file to keep."""
    name = f'attachment; filename="evidence-{invoice_id}.json"'
    return JSONResponse(evidence, headers={"content-disposition": name})
