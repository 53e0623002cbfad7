"""Invoices."""

from __future__ import annotations

from fastapi import APIRouter
from fastapi.responses import JSONResponse
from pydantic import BaseModel

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import IdempotencyKey
from calm_tariff.edge.evidence import evidence_file
from calm_tariff.services.settle.documents import invoices, issuing
from calm_tariff.services.settle.documents.invoices import DayUnits, InvoiceView
from calm_tariff.services.settle.documents.issuing import Issuing

router = APIRouter(tags=["settle"], route_class=Again)


class IssueIn(BaseModel):
    """Draft invoices to issue."""

    invoices: list[int]


@router.post("/invoices/issue")
def issue(ctx: Asking, which: IssueIn, idempotency_key: IdempotencyKey = None) -> Issuing:
    """Issue draft invoices. Those on which every line is 0 are kept as nothing due."""
    return issuing.issue(ctx, which.invoices, idempotency_key)


@router.get("/invoices/{invoice_id}")
def read_invoice(ctx: Asking, invoice_id: int) -> InvoiceView:
    """One invoice with its lines."""
    return invoices.one(ctx, invoice_id)


@router.get("/invoices/{invoice_id}/evidence")
def read_evidence(ctx: Asking, invoice_id: int) -> JSONResponse:
    """The evidence file: `./calm rate` computes the invoice's own lines from it again."""
    return evidence_file(invoice_id, invoices.evidence(ctx, invoice_id))


@router.get("/invoices/{invoice_id}/late/{of_id}/evidence")
def read_late_evidence(ctx: Asking, invoice_id: int, of_id: int) -> JSONResponse:
    """The evidence of its late lines of the period that another invoice is for: `./calm late` computes them from it
    again."""
    return evidence_file(invoice_id, invoices.late_evidence(ctx, invoice_id, of_id), f"late-{of_id}")


@router.get("/lines/{line_id}/days")
def read_days(ctx: Asking, line_id: int) -> list[DayUnits]:
    """The days behind a usage line."""
    return invoices.days(ctx, line_id)
