"""Invoices."""

from __future__ import annotations

from fastapi import APIRouter
from fastapi.responses import JSONResponse
from pydantic import BaseModel

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import IdempotencyKey
from calm_tariff.edge.evidence import evidence_file
from calm_tariff.services.settle import charging, invoices
from calm_tariff.services.settle.invoices import DayUnits, InvoiceView

router = APIRouter(tags=["settle"], route_class=Again)


class IssueIn(BaseModel):
    """Draft invoices to issue."""

    invoices: list[int]


class Issued(BaseModel):
    """How many were issued."""

    issued: int


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
