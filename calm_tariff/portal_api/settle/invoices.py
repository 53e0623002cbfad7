"""One's own invoices."""

from __future__ import annotations

from fastapi import APIRouter
from fastapi.responses import JSONResponse

from calm_tariff.edge.again import Again
from calm_tariff.edge.evidence import evidence_file
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.settle import invoices
from calm_tariff.services.settle.invoices import DayUnits, InvoiceSummary, InvoiceView

router = APIRouter(route_class=Again)


@router.get("/invoices")
def own_invoices(ctx: Asking) -> list[InvoiceSummary]:
    """One's issued invoices."""
    return invoices.own(ctx)


@router.get("/invoices/{invoice_id}")
def own_invoice(ctx: Asking, invoice_id: int) -> InvoiceView:
    """One's own invoice."""
    return invoices.own_one(ctx, invoice_id)


@router.get("/invoices/{invoice_id}/evidence")
def own_evidence(ctx: Asking, invoice_id: int) -> JSONResponse:
    """The evidence file of one's own invoice."""
    return evidence_file(invoice_id, invoices.own_evidence(ctx, invoice_id))


@router.get("/lines/{line_id}/days")
def own_days(ctx: Asking, line_id: int) -> list[DayUnits]:
    """The days behind a line of one's own invoice."""
    return invoices.own_days(ctx, line_id)
