"""Issued documents as files."""

from __future__ import annotations

from fastapi import APIRouter
from fastapi.responses import Response

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.document_files import document_file
from calm_tariff.services.settle.documents import files

router = APIRouter(tags=["settle"], route_class=Again)


@router.get("/invoices/{invoice_id}/document.pdf", response_class=Response)
def invoice_on_paper(ctx: Asking, invoice_id: int) -> Response:
    """An issued invoice as a PDF, with the electronic invoice in it (Factur-X)."""
    return document_file(files.one(ctx, invoice_id, "pdf"))


@router.get("/invoices/{invoice_id}/document.xml", response_class=Response)
def electronic_invoice(ctx: Asking, invoice_id: int) -> Response:
    """An issued invoice as UBL 2.1, to EN 16931."""
    return document_file(files.one(ctx, invoice_id, "ubl"))


@router.get("/credit-notes/{credit_note_id}/document.pdf", response_class=Response)
def credit_note_on_paper(ctx: Asking, credit_note_id: int) -> Response:
    """A credit note as a PDF."""
    return document_file(files.one(ctx, credit_note_id, "pdf"))


@router.get("/credit-notes/{credit_note_id}/document.xml", response_class=Response)
def electronic_credit_note(ctx: Asking, credit_note_id: int) -> Response:
    """A credit note as UBL 2.1."""
    return document_file(files.one(ctx, credit_note_id, "ubl"))
