"""Issuing drafts: from then on they never change, and their owners get them by mail.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.documents.totals import nothing_due
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import INVOICE, move
from calm_tariff.core.money import in_digits
from calm_tariff.core.periods import local_day
from calm_tariff.formats.values import write
from calm_tariff.services.admit import paying
from calm_tariff.services.base import auditing, idempotency
from calm_tariff.services.base.context import Context, provider_of, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.settle.accounts import booking
from calm_tariff.services.settle.documents import adjustments, files, late_lines, numbering
from calm_tariff.services.settle.periods import reckoning
from calm_tariff.store.admit import merged, subscribers
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.locking import all_locked
from calm_tariff.store.base.provider import Provider
from calm_tariff.store.settle.handoff import plans_billed_outside
from calm_tariff.store.settle.money_documents import Invoice, MoneyLine


@dataclass(frozen=True, slots=True, kw_only=True)
class Issuing:
    """What came of drafts: so many were issued, and so many are kept as nothing due."""

    issued: int
    nothing_due: int


def issue(ctx: Context, invoice_ids: Sequence[int], key: str | None = None) -> Issuing:
    """Issue draft invoices: from then on they never change, and their owners get them by mail. One whose lines are all
    0 is kept as nothing due, unless the provider wants such invoices, too.

    Raises `Conflict` where one is no draft, is held back, comes to less than nothing, waits for somebody's agreement,
    or charges what is billed outside, or late what was charged elsewhere, since it was computed; then none is issued.
    """
    ctx.actor.must_be("finance")
    request = f"issue {sorted(invoice_ids)}"
    with ctx.transaction() as session:
        before = idempotency.answered(session, ctx, key, request)
        if before is not None:
            return Issuing(**before)
        _hold_consumers(session, invoice_ids)
        invoices = all_locked(session, Invoice, set(invoice_ids))
        if len(invoices) != len(set(invoice_ids)):
            raise NotFound("names an invoice that is not there", "invoices")
        due = sum(_issued(session, ctx, invoice) for invoice in invoices)
        reckoning.forget(session, ctx)
        result = Issuing(issued=due, nothing_due=len(invoices) - due)
        idempotency.remember(session, ctx, key, write(result))
        return result


def one(ctx: Context, invoice_id: int) -> str | None:
    """Issue one draft, in a transaction of its own; its state then, or None where it is no draft any more. Raises
    `Conflict` as `issue` does."""
    with ctx.transaction() as session:
        _hold_consumers(session, [invoice_id])
        found = all_locked(session, Invoice, [invoice_id])
        if not found or found[0].state != "draft":
            return None
        _issued(session, ctx, found[0])
        return found[0].state


def _issued(session: Session, ctx: Context, invoice: Invoice) -> bool:
    """Whether it was issued; else it is kept as nothing due."""
    provider = provider_of(session)
    called = f"the invoice of {invoice.consumer.name} for {invoice.period_start:%B %Y}"
    move(INVOICE, called, invoice.state, "issued")
    if invoice.period_end > local_day(ctx.now_us, zone_of(session)):
        raise Conflict(f"its period runs until {invoice.period_end:%-d %B}", called)
    if invoice.review is not None and invoice.review.held_by:
        raise Conflict(f"is held back by {invoice.review.held_by}: {invoice.review.held_why}", called)
    _refuse_billed_outside(session, invoice, called)
    adjustments.refuse_waiting(session, invoice, called)
    late_lines.refuse_charged_since(session, invoice, called)
    if nothing_due([line.amount for line in invoice.lines], provider.zero_invoices):
        invoice.state = move(INVOICE, called, invoice.state, "nothing due")
        subject = Thing("invoice", invoice.id, called, invoice.consumer_id)
        auditing.note(session, ctx, "kept an invoice as nothing due", subject)
        return False
    if invoice.total < 0:
        raise Conflict("comes to less than nothing: credit what it corrects instead", called)
    _issue(session, ctx, provider, invoice)
    return True


def _refuse_billed_outside(session: Session, invoice: Invoice, called: str) -> None:
    """Raise `Conflict` where a draft charges what is billed outside since it was computed."""
    there = select(Subscription.id).where(Subscription.plan_id.in_(plans_billed_outside(invoice.period_start)))
    mine = MoneyLine.document_id == invoice.id, MoneyLine.sort == "own", MoneyLine.subscription_id.in_(there)
    if session.scalar(select(MoneyLine.id).where(*mine).limit(1)) is not None:
        raise Conflict("charges what is billed outside by now: have the month drafted again", called)


def _hold_consumers(session: Session, invoice_ids: Sequence[int]) -> None:
    """Nothing else is issued for the same consumers meanwhile: what is late for one of them is charged once."""
    whose = session.scalars(select(Invoice.consumer_id).where(Invoice.id.in_(invoice_ids))).all()
    successors = merged.successors(session)
    all_locked(session, Consumer, {successors.get(each, each) for each in whose})


def _issue(session: Session, ctx: Context, provider: Provider, invoice: Invoice) -> None:
    today = local_day(ctx.now_us, zone_of(session))
    # Of an invoice that comes to nothing, nothing is open; others go on their account.
    invoice.state = "issued" if invoice.total else "paid"
    invoice.number = numbering.next_number(session, "invoice", today.year, provider.invoice_prefix)
    invoice.issued_at = ctx.now
    invoice.payment_method = invoice.consumer.payment_method
    invoice.order_number = invoice.consumer.order_number
    invoice.due_on = today + timedelta(days=provider.payment_days)
    auditing.note(
        session,
        ctx,
        "issued an invoice",
        Thing("invoice", invoice.id, invoice.number or "", invoice.consumer_id),
        after={"total": str(invoice.total), "due": str(invoice.due_on)},
    )
    booking.invoice_issued(session, ctx, invoice)
    files.begin(session, ctx, invoice)
    _tell(session, ctx, invoice)


def _tell(session: Session, ctx: Context, invoice: Invoice) -> None:
    fields = {
        "number": invoice.number,
        "period": f"{invoice.period_start:%B %Y}",
        "total": in_digits(invoice.total, invoice.currency),
        "currency": invoice.currency,
        "due": f"{invoice.due_on:%-d %B %Y}",
        "paid": paying.said(invoice),
    }
    notice = Notice(kind="invoice issued", fields=fields, page=f"/invoices/{invoice.id}", encloses=invoice.id)
    notify(session, ctx, members(subscribers.members_who_may(session, invoice.consumer_id, "see money")), notice)
