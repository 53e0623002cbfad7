"""Periods: what is running up, the charge run that makes draft invoices, and issuing them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session, defer

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.lifecycles import INVOICE, move
from calm_tariff.core.periods import Period, day_start, local_day, month_of, period_before
from calm_tariff.core.rating import rate
from calm_tariff.formats.values import write
from calm_tariff.services.base import auditing, idempotency
from calm_tariff.services.base.context import ROLES, Context, provider_of, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.settle import late_usage, numbering, rating_cases
from calm_tariff.services.settle.late_usage import LateUnits
from calm_tariff.services.settle.rating_cases import ConsumerCase
from calm_tariff.store.admit.consumers import Member
from calm_tariff.store.base.locking import all_locked
from calm_tariff.store.base.paging import Page, PageQuery, listed
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan
from calm_tariff.store.serve import usage_queries
from calm_tariff.store.serve.usage import Call
from calm_tariff.store.settle.invoices import ChargeRun, Invoice, InvoiceLine

NAMED = 24
# Units by (stay, meter) and local day.
DaysOf = Mapping[tuple[int, int], Mapping[date, Decimal]]


@dataclass(frozen=True, slots=True)
class RunningCharge:
    """What a consumer owes so far in a period, before tax, by what is recorded now; of an issued invoice, what that
    says. `invoiced` is what stands on its invoice or draft, `invoice_number` is there once that is issued."""

    consumer_id: int
    consumer: str
    plans: list[str]
    charge: Decimal
    currency: str
    invoice_id: int | None
    invoice_number: str | None
    invoice_state: str | None
    invoiced: Decimal | None = None


@dataclass(frozen=True, slots=True)
class PeriodSummary:
    """A billing month. `state`: running, ready to charge, drafted, issued."""

    start: date
    end: date
    state: str
    invoices: int
    total: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class PeriodView:
    """A billing month with a page of its charges, which are computed anew until invoiced. `subtotal` is of all of
    them, `draft_subtotal` of those in the draft invoices `drafts`, whose consumers come first in `drafted_for`.
    `late` has arrived for invoices already issued, and stands on none."""

    start: date
    end: date
    state: str
    currency: str
    charges: Page[RunningCharge]
    subtotal: Decimal
    drafts: list[int]
    draft_subtotal: Decimal
    drafted_for: list[str]
    runs: list[RunView]
    late: list[LateUnits]


@dataclass(frozen=True, slots=True)
class RunView:
    """A charge run that was made."""

    id: int
    started_at: datetime
    started_by: str
    invoices: int
    total: Decimal


@dataclass(frozen=True, slots=True)
class RunResult:
    """What a charge run made: new draft invoices, and those it left alone because they were issued."""

    run_id: int
    invoices: int
    left_alone: int
    total: str


def periods(ctx: Context) -> list[PeriodSummary]:
    """Billing months from the first recorded call to the running one, newest first."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        running = month_of(local_day(ctx.now_us, zone_of(session)))
        first_us = session.scalar(select(func.min(Call.at_us)))
        first = month_of(local_day(first_us, zone_of(session))) if first_us else running
        invoiced = {
            start: (states, n, total)
            for start, states, n, total in session.execute(
                select(
                    Invoice.period_start,
                    func.group_concat(Invoice.state.distinct()),
                    func.count(),
                    func.sum(Invoice.total),
                ).group_by(Invoice.period_start)
            )
        }
        made = []
        period = running
        while period.start >= first.start:
            states, n, total = invoiced.get(period.start, ("", 0, Decimal(0)))
            made.append(PeriodSummary(period.start, period.end, _state(period, running, states), n, total))
            period = period_before(period)
        return made


def one(ctx: Context, start: date, wanted: PageQuery) -> PeriodView:
    """One billing month. Orders of its charges: consumer, invoice, state, charge. Raises `Invalid` for a day that
    starts none."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        period = _period(start)
        running = month_of(local_day(ctx.now_us, zone_of(session)))
        charges, states = _charges(session, period)
        runs = session.scalars(
            select(ChargeRun).where(ChargeRun.period_start == period.start).order_by(ChargeRun.id.desc())
        )
        drafts = [c for c in charges if c.invoice_state == "draft"]
        return PeriodView(
            start=period.start,
            end=period.end,
            state=_state(period, running, states),
            currency=provider_of(session).currency,
            charges=listed(charges, wanted, _ORDERS),
            subtotal=sum((c.charge for c in charges), Decimal(0)),
            drafts=[c.invoice_id for c in drafts if c.invoice_id],
            draft_subtotal=sum((c.invoiced or Decimal(0) for c in drafts), Decimal(0)),
            drafted_for=[c.consumer for c in drafts[:NAMED]],
            runs=[RunView(r.id, r.started_at, r.started_by, r.invoices, r.total) for r in runs],
            late=late_usage.of_period(session, period),
        )


def charges(ctx: Context, start: date, wanted: PageQuery) -> Page[RunningCharge]:
    """A page of one billing month's charges alone, in the same orders."""
    return pages(ctx, start)(wanted)


def pages(ctx: Context, start: date) -> Callable[[PageQuery], Page[RunningCharge]]:
    """One billing month's charges, worked out once, however many pages of them are then taken."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        found = _charges(session, _period(start))[0]
    return lambda wanted: listed(found, wanted, _ORDERS)


_ORDERS: dict[str, Callable[[RunningCharge], Any]] = {
    "consumer": lambda c: c.consumer,
    "invoice": lambda c: c.invoice_number or "",
    "state": lambda c: c.invoice_state or "",
    "charge": lambda c: c.charge,
    "invoiced": lambda c: c.invoiced or Decimal(0),
}


def _charges(session: Session, period: Period) -> tuple[list[RunningCharge], str]:
    """Everybody's charge in a period, worked out for those without an issued invoice; and the states of the
    invoices."""
    of_period = select(Invoice).where(Invoice.period_start == period.start).options(defer(Invoice.evidence))
    found = {i.consumer_id: _invoiced(i) for i in session.scalars(of_period)}
    states = ",".join({c.invoice_state or "" for c in found.values()})
    plans = rating_cases.plans_in(session, period)
    owing = [c for c in plans if c not in found or found[c].invoice_state == "draft"]
    for case in rating_cases.cases(session, period, owing) if owing else ():
        charge = rate(case.case).subtotal
        none = RunningCharge(
            consumer_id=case.consumer_id,
            consumer=case.consumer,
            plans=[],
            charge=charge,
            currency=case.case.currency,
            invoice_id=None,
            invoice_number=None,
            invoice_state=None,
        )
        found[case.consumer_id] = replace(found.get(case.consumer_id, none), charge=charge)
    names = _plan_names(session)
    for consumer, held in plans.items():
        if consumer in found:
            found[consumer] = replace(found[consumer], plans=[names[p] for p in dict.fromkeys(held)])
    return sorted(found.values(), key=lambda c: c.consumer), states


def run(ctx: Context, start: date, key: str | None = None) -> RunResult:
    """Turn a period's usage into draft invoices, one for each consumer with a stay in it.

    Drafts of an earlier run are computed anew; issued invoices are left alone. The running period
    can be drafted too, by what is recorded so far, but not issued. The same idempotency key runs once.
    Raises `Conflict` for a period that has not begun.
    """
    ctx.actor.must_be("finance")
    period = _period(start)
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
            invoice.number = numbering.next_number(session, "invoice", today.year)
            invoice.issued_at = ctx.now
            invoice.due_on = today + timedelta(days=provider.payment_days)
            auditing.note(
                session,
                ctx,
                "issued an invoice",
                ("invoice", invoice.id, invoice.number),
                after={"total": str(invoice.total), "due": str(invoice.due_on)},
            )
            _tell(session, ctx, invoice)
        idempotency.remember(session, ctx, key, {"issued": len(invoices)})
        return len(invoices)


def _tell(session: Session, ctx: Context, invoice: Invoice) -> None:
    owners = select(Member).filter_by(consumer_id=invoice.consumer_id, role="owner")
    fields = {
        "number": invoice.number,
        "period": f"{invoice.period_start:%B %Y}",
        "total": format(invoice.total.quantize(Decimal("0.01")), "f"),
        "currency": invoice.currency,
        "due": f"{invoice.due_on:%-d %B %Y}",
    }
    notice = Notice(kind="invoice issued", fields=fields, page=f"/portal/invoices/{invoice.id}")
    notify(session, ctx, members(session.scalars(owners)), notice)


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


def _invoiced(i: Invoice) -> RunningCharge:
    return RunningCharge(
        consumer_id=i.consumer_id,
        consumer=i.consumer.name,
        plans=[],
        charge=i.subtotal,
        currency=i.currency,
        invoice_id=i.id,
        invoice_number=i.number,
        invoice_state=i.state,
        invoiced=i.subtotal,
    )


def _plan_names(session: Session) -> dict[int, str]:
    return {p.id: f"{p.product.name} · {p.name}" for p in session.scalars(select(Plan))}


def _period(start: date) -> Period:
    if start.year > 9000:
        raise Invalid("lies further ahead than anything is charged", "period")
    period = month_of(start)
    if period.start != start:
        raise Invalid("a period starts on the first of a month", "period")
    return period


def _state(period: Period, running: Period, states: str) -> str:
    if period.start == running.start:
        return "running"
    if not states:
        return "ready to charge"
    return "drafted" if "draft" in states.split(",") else "issued"
