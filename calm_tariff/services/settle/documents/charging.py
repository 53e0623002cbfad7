"""The charge run that makes draft invoices of a period, and issuing them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.billing import documents
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import INVOICE, move
from calm_tariff.core.periods import local_day, month_of
from calm_tariff.formats.values import write
from calm_tariff.services.admit import paying
from calm_tariff.services.base import auditing, idempotency
from calm_tariff.services.base.context import Context, provider_of, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.settle.documents import adjustments, drafting, late_lines, numbering
from calm_tariff.services.settle.documents.periods import period_starting
from calm_tariff.store.admit import merged, subscribers
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.locking import all_locked
from calm_tariff.store.base.provider import Provider
from calm_tariff.store.settle.money_documents import ChargeRun, Invoice


@dataclass(frozen=True, slots=True)
class RunResult:
    """What a charge run made: new draft invoices, and those it left alone because they were issued."""

    run_id: int
    invoices: int
    left_alone: int
    total: str


def run(ctx: Context, start: date, key: str | None = None) -> RunResult:
    """Turn a period's usage into draft invoices, one for each consumer with a stay in it, or with something late or
    adjusted to be charged with it.

    Drafts of an earlier run are computed anew, and go where nothing is charged any more; issued invoices are left
    alone. The running period can be drafted too, by what is recorded so far, but not issued. The same idempotency key
    runs once. Raises `Conflict` for a period that has not begun.
    """
    ctx.actor.must_be("finance")
    period = period_starting(start)
    request = f"charge run {start}"
    with ctx.transaction() as session:
        before = idempotency.answered(session, ctx, key, request)
        if before is not None:
            return RunResult(**before)
        running = month_of(local_day(ctx.now_us, zone_of(session)))
        if period.start > running.start:
            raise Conflict(f"{start:%B %Y} has not begun", "period")
        made = ChargeRun(
            period_start=period.start,
            period_end=period.end,
            started_at=ctx.now,
            started_by=ctx.actor.name,
            invoices=0,
            total=Decimal(0),
        )
        session.add(made)
        session.flush()
        left_alone = 0
        existing = {
            i.consumer_id: i
            for i in all_locked(
                session, Invoice, session.scalars(select(Invoice.id).where(Invoice.period_start == period.start)).all()
            )
        }
        contents = drafting.contents(session, period)
        for consumer_id in existing.keys() - {content.case.consumer_id for content in contents}:
            if existing[consumer_id].state == "draft":
                session.delete(existing[consumer_id])
        for content in contents:
            draft = existing.get(content.case.consumer_id)
            if draft is not None and draft.state != "draft":
                left_alone += 1
                continue
            if draft is None:
                draft = Invoice(
                    consumer_id=content.case.consumer_id,
                    period_start=period.start,
                    period_end=period.end,
                    state="draft",
                )
            draft.run_id = made.id
            drafting.fill(session, ctx, draft, content)
            session.add(draft)
            made.invoices += 1
            made.total += draft.total
        provider = provider_of(session)
        if made.invoices and provider.charged_at is None:
            provider.charged_at = ctx.now
        result = RunResult(made.id, made.invoices, left_alone, str(made.total))
        auditing.note(
            session,
            ctx,
            "made a charge run",
            ("charge run", made.id, f"{start:%B %Y}"),
            after={"invoices": made.invoices, "total": str(made.total), "left alone": left_alone},
        )
        idempotency.remember(session, ctx, key, write(result))
        return result


@dataclass(frozen=True, slots=True, kw_only=True)
class Issuing:
    """What came of drafts: so many were issued, and so many are kept as nothing due."""

    issued: int
    nothing_due: int


def issue(ctx: Context, invoice_ids: Sequence[int], key: str | None = None) -> Issuing:
    """Issue draft invoices: from then on they never change, and their owners get them by mail. One whose lines are all
    0 is kept as nothing due, unless the provider wants such invoices, too.

    Raises `Conflict` where one is no draft, comes to less than nothing, waits for somebody's agreement, or charges late
    what was charged elsewhere since it was computed; then none is issued.
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
        provider = provider_of(session)
        due = 0
        for invoice in invoices:
            called = f"the invoice of {invoice.consumer.name} for {invoice.period_start:%B %Y}"
            move(INVOICE, called, invoice.state, "issued")
            if invoice.period_end > local_day(ctx.now_us, zone_of(session)):
                raise Conflict(f"its period runs until {invoice.period_end:%-d %B}", called)
            adjustments.refuse_waiting(session, invoice, called)
            late_lines.refuse_charged_since(session, invoice, called)
            if documents.nothing_due([line.amount for line in invoice.lines], provider.zero_invoices):
                invoice.state = move(INVOICE, called, invoice.state, "nothing due")
                subject = Thing("invoice", invoice.id, called, invoice.consumer_id)
                auditing.note(session, ctx, "kept an invoice as nothing due", subject)
                continue
            if invoice.total < 0:
                raise Conflict("comes to less than nothing: credit what it corrects instead", called)
            _issue(session, ctx, provider, invoice)
            due += 1
        result = Issuing(issued=due, nothing_due=len(invoices) - due)
        idempotency.remember(session, ctx, key, write(result))
        return result


def _hold_consumers(session: Session, invoice_ids: Sequence[int]) -> None:
    """Nothing else is issued for the same consumers meanwhile: what is late for one of them is charged once."""
    whose = session.scalars(select(Invoice.consumer_id).where(Invoice.id.in_(invoice_ids))).all()
    successors = merged.successors(session)
    all_locked(session, Consumer, {successors.get(each, each) for each in whose})


def _issue(session: Session, ctx: Context, provider: Provider, invoice: Invoice) -> None:
    today = local_day(ctx.now_us, zone_of(session))
    invoice.state = "issued"
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
    _tell(session, ctx, invoice)


def _tell(session: Session, ctx: Context, invoice: Invoice) -> None:
    fields = {
        "number": invoice.number,
        "period": f"{invoice.period_start:%B %Y}",
        "total": format(invoice.total.quantize(Decimal("0.01")), "f"),
        "currency": invoice.currency,
        "due": f"{invoice.due_on:%-d %B %Y}",
        "paid": paying.said(invoice),
    }
    notice = Notice(kind="invoice issued", fields=fields, page=f"/invoices/{invoice.id}")
    notify(session, ctx, members(subscribers.members_who_may(session, invoice.consumer_id, "see money")), notice)
