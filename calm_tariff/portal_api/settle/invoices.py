"""One's own invoices and credit notes."""

from __future__ import annotations

from fastapi import APIRouter
from fastapi.responses import JSONResponse

from calm_tariff.edge.again import Again
from calm_tariff.edge.evidence import evidence_file
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.settle.documents import invoices
from calm_tariff.services.settle.documents.invoices import CreditNoteView, DayUnits, InvoiceView
from calm_tariff.services.settle.documents.views import CreditNoteSummary, InvoiceSummary

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


@router.get("/invoices/{invoice_id}/late/{of_id}/evidence")
def own_late_evidence(ctx: Asking, invoice_id: int, of_id: int) -> JSONResponse:
    """The evidence of its late lines of the period that another invoice is for."""
    return evidence_file(invoice_id, invoices.own_late_evidence(ctx, invoice_id, of_id), f"late-{of_id}")


@router.get("/credit-notes")
def own_credit_notes(ctx: Asking) -> list[CreditNoteSummary]:
    """One's credit notes."""
    return invoices.own_credit_notes(ctx)


@router.get("/credit-notes/{credit_note_id}")
def own_credit_note(ctx: Asking, credit_note_id: int) -> CreditNoteView:
    """One's own credit note."""
    return invoices.own_credit_note(ctx, credit_note_id)


@router.get("/lines/{line_id}/days")
def own_days(ctx: Asking, line_id: int) -> list[DayUnits]:
    """The days behind a line of one's own invoice."""
    return invoices.own_days(ctx, line_id)
