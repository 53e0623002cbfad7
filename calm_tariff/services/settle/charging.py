"""The charge run that makes draft invoices of a period, and issuing them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import INVOICE, move
from calm_tariff.core.periods import Period, day_start, local_day, month_of
from calm_tariff.core.rating import rate
from calm_tariff.formats.values import write
from calm_tariff.services.admit import paying
from calm_tariff.services.base import auditing, idempotency
from calm_tariff.services.base.context import Context, provider_of, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.settle import numbering, rating_cases
from calm_tariff.services.settle.periods import period_starting
from calm_tariff.services.settle.rating_cases import ConsumerCase
from calm_tariff.store.admit import subscribers
from calm_tariff.store.base.locking import all_locked
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.serve import usage_queries
from calm_tariff.store.settle.invoices import ChargeRun, Invoice, InvoiceLine

# Units by (stay, meter) and local day.
DaysOf = Mapping[tuple[int, int], Mapping[date, Decimal]]


@dataclass(frozen=True, slots=True)
class RunResult:
    """What a charge run made: new draft invoices, and those it left alone because they were issued."""

    run_id: int
    invoices: int
    left_alone: int
    total: str


def run(ctx: Context, start: date, key: str | None = None) -> RunResult:
    """Turn a period's usage into draft invoices, one for each consumer with a stay in it.

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
        meters = dict(session.execute(select(Meter.key, Meter.id)).all())
        cases = rating_cases.cases(session, period)
        days = _by_day(session, period, cases)
        for consumer_id in existing.keys() - {case.consumer_id for case in cases}:
            if existing[consumer_id].state == "draft":
                session.delete(existing[consumer_id])
        for case in cases:
            old = existing.get(case.consumer_id)
            if old is not None and old.state != "draft":
                left_alone += 1
                continue
            if old is not None:
                session.delete(old)
                session.flush()
            invoice = _invoice(ctx, case, made, meters, days)
            session.add(invoice)
            made.invoices += 1
            made.total += invoice.total
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


def issue(ctx: Context, invoice_ids: Sequence[int], key: str | None = None) -> int:
    """Issue draft invoices: from then on they never change, and their owners get them by mail.

    Returns how many. Raises `Conflict` where one is no draft; then none is issued.
    """
    ctx.actor.must_be("finance")
    request = f"issue {sorted(invoice_ids)}"
    with ctx.transaction() as session:
        before = idempotency.answered(session, ctx, key, request)
        if before is not None:
            return int(before["issued"])
        invoices = all_locked(session, Invoice, set(invoice_ids))
        if len(invoices) != len(set(invoice_ids)):
            raise NotFound("names an invoice that is not there", "invoices")
        provider = provider_of(session)
        today = local_day(ctx.now_us, zone_of(session))
        for invoice in invoices:
            called = f"the invoice of {invoice.consumer.name} for {invoice.period_start:%B %Y}"
            if invoice.period_end > today:
                raise Conflict(f"its period runs until {invoice.period_end:%-d %B}", called)
            invoice.state = move(INVOICE, called, invoice.state, "issued")
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
        idempotency.remember(session, ctx, key, {"issued": len(invoices)})
        return len(invoices)


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


def _invoice(ctx: Context, case: ConsumerCase, made: ChargeRun, meters: dict[str, int], days: DaysOf) -> Invoice:
    charge = rate(case.case)
    lines = []
    for place, line in enumerate(charge.lines):
        origin = case.segments[line.segment]
        meter = meters[line.meter] if line.meter else None
        lines.append(
            InvoiceLine(
                place=place,
                segment=line.segment,
                subscription_id=origin.subscription_id,
                revision_id=origin.revision_id,
                stay_id=origin.stay_id,
                segment_start=origin.start,
                segment_end=origin.end,
                kind=line.kind,
                meter_id=meter,
                quantity=line.quantity,
                included=line.included,
                priced=line.priced,
                days=line.days,
                amount=line.amount,
                slices=write(line.slices),
                by_day=[[day.isoformat(), str(n)] for day, n in sorted(days.get((origin.stay_id, meter), {}).items())]
                if meter
                else None,
            )
        )
    return Invoice(
        number=None,
        consumer_id=case.consumer_id,
        run_id=made.id,
        period_start=case.case.period.start,
        period_end=case.case.period.end,
        currency=case.case.currency,
        tax_percent=case.case.tax_percent,
        subtotal=charge.subtotal,
        tax=charge.tax,
        total=charge.total,
        state="draft",
        evidence=write(case.case),
        created_at=ctx.now,
        lines=lines,
    )


def _by_day(session: Session, period: Period, cases: Sequence[ConsumerCase]) -> DaysOf:
    """What the usage lines of these cases open into, as recorded now."""
    where = zone_of(session)
    subscriptions = sorted({origin.subscription_id for case in cases for origin in case.segments})
    span = day_start(period.start, where), day_start(period.end, where)
    return usage_queries.units_by_day(session, *span, subscriptions, where)
