"""What puts a charge right: adjustments of drafts, credit notes for what is issued."""

from __future__ import annotations

from decimal import Decimal

from fastapi import APIRouter
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core.billing.documents import adjustments as adjusting
from calm_tariff.core.billing.documents.credit_notes import Taken
from calm_tariff.core.billing.documents.tax import treatment
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import IdempotencyKey
from calm_tariff.services.settle.documents import adjustments, credit_notes, invoices
from calm_tariff.services.settle.documents.credit_notes import Issued, Wanted, WorkedOut
from calm_tariff.services.settle.documents.invoices import CreditNoteView

router = APIRouter(tags=["settle"], route_class=Again)


class AdjustmentIn(BaseModel):
    """A line for a draft: what stands on the invoice (`words`), its amount before tax, above 0 to charge more and below
    to charge less, how it is taxed, and why."""

    words: str = Field(max_length=1000)
    amount: Decimal
    treatment: str = Field("standard", max_length=40)
    reason: str = Field(max_length=5000)


class TakenIn(BaseModel):
    """So much taken back of a line, before tax: above 0 where the line is."""

    line: int
    amount: Decimal


class CreditNoteIn(BaseModel):
    """What to take back of an issued invoice, and why, as its consumer reads it: of these lines so much, or of the
    `whole` invoice all that is left. Where it is to be `chargeable_again`, the next invoice charges late what recorded
    usage then comes to."""

    reason: str = Field(max_length=5000)
    lines: list[TakenIn] = []
    whole: bool = False
    chargeable_again: bool = False

    def wanted(self) -> Wanted:
        """The same for the service."""
        return Wanted(
            reason=self.reason,
            lines=tuple(Taken(line=each.line, amount=each.amount) for each in self.lines),
            whole=self.whole,
            chargeable_again=self.chargeable_again,
        )


class ProposedIn(BaseModel):
    """Why what is proposed is taken back, as the consumer reads it."""

    reason: str = Field(max_length=5000)


@router.post("/invoices/{invoice_id}/adjustments", status_code=204)
def adjust(ctx: Asking, invoice_id: int, typed: AdjustmentIn, idempotency_key: IdempotencyKey = None) -> None:
    """Add a line to a draft; above an amount that the house sets, a second person has to agree."""
    wanted = adjusting.Wanted(
        words=typed.words, amount=typed.amount, treatment=treatment(typed.treatment), reason=typed.reason
    )
    adjustments.add(ctx, invoice_id, wanted, idempotency_key)


@router.post("/adjustments/{adjustment_id}/agree", status_code=204)
def agree(ctx: Asking, adjustment_id: int) -> None:
    """Agree to a line that somebody else added to a draft."""
    adjustments.agree(ctx, adjustment_id)


@router.delete("/adjustments/{adjustment_id}", status_code=204)
def take_back(ctx: Asking, adjustment_id: int) -> None:
    """Take a line off a draft again, or what waits to be added."""
    adjustments.take_back(ctx, adjustment_id)


@router.post("/invoices/{invoice_id}/credit-notes", status_code=201)
def credit(ctx: Asking, invoice_id: int, typed: CreditNoteIn, idempotency_key: IdempotencyKey = None) -> Issued:
    """Take something of an issued invoice back."""
    return credit_notes.issue(ctx, invoice_id, typed.wanted(), idempotency_key)


@router.post("/invoices/{invoice_id}/credit-notes/worked-out")
def work_out(ctx: Asking, invoice_id: int, typed: CreditNoteIn) -> WorkedOut:
    """What a credit note would come to; nothing is issued."""
    return credit_notes.worked_out(ctx, invoice_id, typed.wanted())


@router.post("/invoices/{invoice_id}/proposed-credit", status_code=201)
def credit_proposed(
    ctx: Asking, invoice_id: int, typed: ProposedIn, idempotency_key: IdempotencyKey = None
) -> list[Issued]:
    """Take back what an issued period comes to less by what is recorded for it now."""
    return credit_notes.issue_proposed(ctx, invoice_id, typed.reason, idempotency_key)


@router.get("/credit-notes/{credit_note_id}")
def read_credit_note(ctx: Asking, credit_note_id: int) -> CreditNoteView:
    """One credit note with its lines."""
    return invoices.credit_note(ctx, credit_note_id)
