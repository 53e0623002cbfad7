"""Invoices as they are read: every figure opens, from the total down to days and calls."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core.errors import NotFound
from calm_tariff.core.lifecycles import UNPAID
from calm_tariff.core.periods import day_start
from calm_tariff.core.sentences import line_in_words
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.admit import paying
from calm_tariff.services.base.context import ROLES, Context, zone_of
from calm_tariff.store.admit import merged
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import PlanRevision
from calm_tariff.store.serve import usage_queries
from calm_tariff.store.settle.invoices import Invoice, InvoiceLine

ZERO = Decimal(0)


@dataclass(frozen=True, slots=True)
class SliceView:
    """One step of a usage line, exact and unrounded."""

    quantity: Decimal
    unit: Decimal
    flat: Decimal
    amount: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class LineView:
    """One figure of an invoice, the rule it follows in words, and where it comes from. `late` units have arrived since
    for an issued usage line, and are not on it."""

    id: int
    kind: str
    label: str
    rule: str
    application: str
    product: str
    plan: str
    revision_id: int
    revision: int
    subscription_id: int
    segment_start: datetime
    segment_end: datetime
    days: int
    meter_id: int | None
    meter: str | None
    quantity: Decimal | None
    included: Decimal | None
    priced: Decimal | None
    amount: Decimal
    slices: list[SliceView]
    late: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class InvoiceSummary:
    """A line of a list of invoices. A draft has no number."""

    id: int
    number: str | None
    consumer_id: int
    consumer: str
    period_start: date
    period_end: date
    currency: str
    total: Decimal
    state: str
    due_on: date | None


@dataclass(frozen=True, slots=True, kw_only=True)
class InvoiceView:
    """An invoice with its lines. `paid` is how, in words; "" where its consumer had not said so."""

    summary: InvoiceSummary
    paid: str
    subtotal: Decimal
    tax_percent: Decimal
    tax: Decimal
    total: Decimal
    created_at: datetime
    issued_at: datetime | None
    lines: list[LineView]


@dataclass(frozen=True, slots=True, kw_only=True)
class Owed:
    """What a consumer owes by invoices that are issued and not paid, and come to more than nothing: their total, their
    count, and of these, those past the day they are due."""

    total: Decimal
    invoices: int
    past_due: int


@dataclass(frozen=True, slots=True)
class DayUnits:
    """Units counted on one local day, with the instants that bound it; `late` arrived after the invoice was issued."""

    day: date
    units: Decimal
    late: Decimal
    since_us: int
    until_us: int


def of_consumer(session: Session, consumer_id: int, issued_only: bool) -> list[InvoiceSummary]:
    """A consumer's invoices, newest first, with those of others that were merged into it."""
    whose = Invoice.consumer_id.in_(merged.with_merged(session, consumer_id))
    query = (
        select(Invoice)
        .where(whose)
        .order_by(Invoice.period_start.desc(), Invoice.consumer_id != consumer_id, Invoice.id)
    )
    if issued_only:
        query = query.where(Invoice.state != "draft")
    return [_summary(i) for i in session.scalars(query)]


def owed(session: Session, consumer_id: int, today: date) -> Owed:
    """What a consumer owes on a day, also by invoices of others that were merged into it."""
    whose = Invoice.consumer_id.in_(merged.with_merged(session, consumer_id))
    query = select(Invoice.total, Invoice.due_on).where(whose, Invoice.state.in_(UNPAID), Invoice.total > 0)
    found = session.execute(query).all()
    late = [due for _, due in found if due is not None and due < today]
    return Owed(total=sum((total for total, _ in found), ZERO), invoices=len(found), past_due=len(late))


def one(ctx: Context, invoice_id: int) -> InvoiceView:
    """Any invoice, for the provider's staff. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        return _view(session, _get(session, invoice_id))


def own(ctx: Context) -> list[InvoiceSummary]:
    """The signed-in consumer's issued invoices."""
    with ctx.transaction() as session:
        return of_consumer(session, ctx.actor.consumer_to("see money"), issued_only=True)


def own_one(ctx: Context, invoice_id: int) -> InvoiceView:
    """One's own issued invoice. Raises `NotFound` for another's, just as for none."""
    with ctx.transaction() as session:
        return _view(session, _own(session, ctx, invoice_id))


def evidence(ctx: Context, invoice_id: int) -> dict[str, Any]:
    """The rating case from which `./calm rate` computes the invoice again."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        return _get(session, invoice_id).evidence


def own_evidence(ctx: Context, invoice_id: int) -> dict[str, Any]:
    """The evidence of one's own issued invoice."""
    with ctx.transaction() as session:
        return _own(session, ctx, invoice_id).evidence


def days(ctx: Context, line_id: int) -> list[DayUnits]:
    """The local days behind a usage line. Their units sum to the line's quantity."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        line = session.get(InvoiceLine, line_id)
        if line is None:
            raise NotFound("there is no such line", str(line_id))
        return _days(session, line)


def own_days(ctx: Context, line_id: int) -> list[DayUnits]:
    """The days behind a line of one's own issued invoice."""
    with ctx.transaction() as session:
        owner = ctx.actor.consumer_to("see money")
        line = session.get(InvoiceLine, line_id)
        if line is None or not _is_own(session, owner, line.invoice):
            raise NotFound("there is no such line", str(line_id))
        return _days(session, line)


def _days(session: Session, line: InvoiceLine) -> list[DayUnits]:
    """The days as they were when the line was made, and what has arrived for an issued one since."""
    where = zone_of(session)
    start, end = day_start(line.invoice.period_start, where), day_start(line.invoice.period_end, where)
    counted = usage_queries.units_by_day(session, start, end, [line.subscription_id], where)
    now = counted.get((line.stay_id or 0, line.meter_id or 0), {})
    kept = {date.fromisoformat(day): Decimal(units) for day, units in line.by_day} if line.by_day is not None else now
    found = []
    for day in sorted({*now, *kept}):
        begin, after = day_start(day, where), day_start(date.fromordinal(day.toordinal() + 1), where)
        units = kept.get(day, ZERO)
        late = now.get(day, ZERO) - units if line.invoice.state != "draft" else ZERO
        found.append(DayUnits(day, units, late, max(begin, start), min(after, end)))
    return found


def _get(session: Session, invoice_id: int) -> Invoice:
    found = session.get(Invoice, invoice_id, options=[selectinload(Invoice.lines)])
    if found is None:
        raise NotFound("there is no such invoice", str(invoice_id))
    return found


def _own(session: Session, ctx: Context, invoice_id: int) -> Invoice:
    owner = ctx.actor.consumer_to("see money")
    found = session.get(Invoice, invoice_id, options=[selectinload(Invoice.lines)])
    if found is None or not _is_own(session, owner, found):
        raise NotFound("there is no such invoice", str(invoice_id))
    return found


def _is_own(session: Session, owner: int, invoice: Invoice) -> bool:
    return invoice.state != "draft" and invoice.consumer_id in merged.with_merged(session, owner)


def _summary(i: Invoice) -> InvoiceSummary:
    return InvoiceSummary(
        id=i.id,
        number=i.number,
        consumer_id=i.consumer_id,
        consumer=i.consumer.name,
        period_start=i.period_start,
        period_end=i.period_end,
        currency=i.currency,
        total=i.total,
        state=i.state,
        due_on=i.due_on,
    )


def _view(session: Session, i: Invoice) -> InvoiceView:
    revisions = {
        r.id: r
        for r in session.scalars(select(PlanRevision).where(PlanRevision.id.in_({x.revision_id for x in i.lines})))
    }
    subscriptions = {
        s.id: s
        for s in session.scalars(select(Subscription).where(Subscription.id.in_({x.subscription_id for x in i.lines})))
    }
    meters = {m.id: m for m in session.scalars(select(Meter))}
    late = _late(session, i) if i.state != "draft" else {}
    lines = [
        _line(
            x, i, revisions[x.revision_id], subscriptions[x.subscription_id], meters=meters, late=late.get(x.id, ZERO)
        )
        for x in i.lines
    ]
    return InvoiceView(
        summary=_summary(i),
        paid=paying.said(i if i.issued_at else i.consumer),
        subtotal=i.subtotal,
        tax_percent=i.tax_percent,
        tax=i.tax,
        total=i.total,
        created_at=i.created_at,
        issued_at=i.issued_at,
        lines=lines,
    )


def _late(session: Session, i: Invoice) -> dict[int, Decimal]:
    """Units recorded now beyond those on the lines of an issued invoice, by line."""
    where = zone_of(session)
    span = day_start(i.period_start, where), day_start(i.period_end, where)
    now = usage_queries.units_by_stay(session, *span, [x.subscription_id for x in i.lines])
    return {
        x.id: now.get((x.stay_id, x.meter_id), ZERO) - (x.quantity or ZERO)
        for x in i.lines
        if x.kind == "usage" and x.stay_id is not None and x.meter_id is not None
    }


def _line(
    x: InvoiceLine,
    i: Invoice,
    revision: PlanRevision,
    subscription: Subscription,
    meters: dict[int, Meter],
    late: Decimal,
) -> LineView:
    meter = meters[x.meter_id] if x.meter_id else None
    same = [y.id for y in i.lines if (y.segment, y.kind, y.meter_id) == (x.segment, x.kind, x.meter_id)]
    pricing = read(PlanTerms, revision.terms).pricing
    rule = line_in_words(pricing, x.kind, meter.key if meter else None, same.index(x.id), i.currency)
    return LineView(
        id=x.id,
        kind=x.kind,
        label=meter.name if meter else x.kind.capitalize(),
        rule=rule,
        application=subscription.application.name,
        product=revision.plan.product.name,
        plan=revision.plan.name,
        revision_id=revision.id,
        revision=revision.number,
        subscription_id=x.subscription_id,
        segment_start=x.segment_start,
        segment_end=x.segment_end,
        days=x.days,
        meter_id=x.meter_id,
        meter=meter.name if meter else None,
        quantity=x.quantity,
        included=x.included,
        priced=x.priced,
        amount=x.amount,
        slices=[SliceView(*(Decimal(s[name]) for name in ("quantity", "unit", "flat", "amount"))) for s in x.slices],
        late=late,
    )
