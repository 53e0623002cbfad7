"""Documents of money as they are read: every figure opens, from the total down to days and calls."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core.billing.documents.tax import NOTES, treatment
from calm_tariff.core.sentences import line_in_words
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan, PlanRevision
from calm_tariff.store.settle.money_documents import CreditNote, Invoice, MoneyDocument, MoneyLine

ZERO = Decimal(0)


@dataclass(frozen=True, slots=True)
class SliceView:
    """One step of a usage line, exact and unrounded."""

    quantity: Decimal
    unit: Decimal
    flat: Decimal
    amount: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class Charged:
    """Where a charge comes from: a stretch of a subscription on a revision of a plan. `days` of the period belong to
    it."""

    application: str
    product: str
    plan: str
    revision_id: int
    revision: int
    subscription_id: int
    segment_start: datetime
    segment_end: datetime
    days: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Corrected:
    """The document whose line is corrected."""

    kind: str
    document_id: int
    number: str


@dataclass(frozen=True, slots=True, kw_only=True)
class LineView:
    """One figure of a document, the rule it follows in words, how it is taxed, and where it comes from (`sort`:
    core.billing.documents.totals). `belongs_to` is the first day of the period it is charged for. An adjustment is
    charged of nothing.

    Of a late line, `before` is what was charged of it till then, and `comes_to` what it comes to with this. `credited`
    was taken back of an issued line since, and `left` may still be. `late` units have arrived since for an issued usage
    line and are on no document."""

    id: int
    sort: str
    belongs_to: date
    kind: str
    label: str
    rule: str
    charged: Charged | None
    meter_id: int | None
    meter: str | None
    quantity: Decimal | None
    included: Decimal | None
    priced: Decimal | None
    amount: Decimal
    before: Decimal | None
    comes_to: Decimal | None
    treatment: str
    percent: Decimal
    slices: list[SliceView]
    corrects: Corrected | None
    credited: Decimal
    left: Decimal
    late: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class TaxGroupView:
    """The lines of a document under one treatment and percent: their sum, and the tax on it. `note` is what has to be
    said where there is none."""

    treatment: str
    percent: Decimal
    base: Decimal
    tax: Decimal
    note: str


@dataclass(frozen=True, slots=True, kw_only=True)
class InvoiceSummary:
    """A line of a list of invoices. A draft has no number; `open` is still to be paid."""

    id: int
    number: str | None
    consumer_id: int
    consumer: str
    period_start: date
    period_end: date
    currency: str
    total: Decimal
    open: Decimal
    state: str
    due_on: date | None


@dataclass(frozen=True, slots=True, kw_only=True)
class CreditNoteSummary:
    """A line of a list of credit notes, with the invoice that it corrects."""

    id: int
    number: str
    consumer_id: int
    consumer: str
    invoice_id: int
    invoice: str
    period_start: date
    currency: str
    total: Decimal
    issued_at: datetime
    reason: str


def invoice_summary(i: Invoice) -> InvoiceSummary:
    """An invoice in one line."""
    return InvoiceSummary(
        id=i.id,
        number=i.number,
        consumer_id=i.consumer_id,
        consumer=i.consumer.name,
        period_start=i.period_start,
        period_end=i.period_end,
        currency=i.currency,
        total=i.total,
        open=i.open_amount,
        state=i.state,
        due_on=i.due_on,
    )


def credit_note_summary(note: CreditNote) -> CreditNoteSummary:
    """A credit note in one line."""
    assert note.issued_at is not None
    return CreditNoteSummary(
        id=note.id,
        number=note.number or "",
        consumer_id=note.consumer_id,
        consumer=note.consumer.name,
        invoice_id=note.corrects_id,
        invoice=note.corrects.number or "",
        period_start=note.period_start,
        currency=note.currency,
        total=note.total,
        issued_at=note.issued_at,
        reason=note.reason,
    )


def tax_groups(of: MoneyDocument, exempt_because: str = "") -> list[TaxGroupView]:
    """A document's tax, group by group. `exempt_because` is what exempts its consumer, where something does."""
    return [
        TaxGroupView(
            treatment=group.treatment,
            percent=group.percent,
            base=group.base,
            tax=group.tax,
            note=(exempt_because if group.treatment == "exempt" else "") or NOTES[treatment(group.treatment)],
        )
        for group in of.tax_groups
    ]


def lines(
    session: Session, of: MoneyDocument, credited: Mapping[int, Decimal], late: Mapping[int, Decimal]
) -> list[LineView]:
    """A document's lines. `credited` and `late` are by line."""
    return [
        replace(
            x, credited=credited.get(x.id, ZERO), left=x.amount - credited.get(x.id, ZERO), late=late.get(x.id, ZERO)
        )
        for x in lines_of(session, [of])[of.id]
    ]


def lines_of(session: Session, documents: Sequence[MoneyDocument]) -> dict[int, list[LineView]]:
    """The lines of several documents, by document, as they were issued."""
    all_lines = [x for of in documents for x in of.lines]
    origins, placed = _origins(session, all_lines), _places(session, all_lines)
    meters = {m.id: m for m in session.scalars(select(Meter))}
    return {of.id: [_line(x, of.currency, origins, placed, meters) for x in of.lines] for of in documents}


def _line(
    x: MoneyLine,
    currency: str,
    origins: Mapping[int, Corrected],
    placed: Mapping[int, tuple[Charged, PlanRevision]],
    meters: Mapping[int, Meter],
) -> LineView:
    return LineView(
        id=x.id,
        sort=x.sort,
        belongs_to=x.belongs_to,
        kind=x.kind,
        label=label(x, meters),
        rule=_rule(x, placed, meters, currency),
        charged=placed[x.id][0] if x.id in placed else None,
        meter_id=x.meter_id,
        meter=meters[x.meter_id].name if x.meter_id else None,
        quantity=x.quantity,
        included=x.included,
        priced=x.priced,
        amount=x.amount,
        before=x.before,
        comes_to=None if x.before is None else x.before + x.amount,
        treatment=x.treatment,
        percent=x.percent,
        slices=[_slice(each) for each in x.slices],
        corrects=origins.get(x.origin_id or 0),
        credited=ZERO,
        left=x.amount,
        late=ZERO,
    )


def _origins(session: Session, of: Sequence[MoneyLine]) -> dict[int, Corrected]:
    """The documents of lines that are corrected, by line."""
    query = (
        select(MoneyLine.id, MoneyDocument.kind, MoneyDocument.id, MoneyDocument.number)
        .join(MoneyDocument, MoneyDocument.id == MoneyLine.document_id)
        .where(MoneyLine.id.in_([x.origin_id for x in of if x.origin_id is not None]))
    )
    return {
        line: Corrected(kind=kind, document_id=document, number=number or "")
        for line, kind, document, number in session.execute(query)
    }


def _places(session: Session, of: Sequence[MoneyLine]) -> dict[int, tuple[Charged, PlanRevision]]:
    """What lines are charged of, and under which terms, by line."""
    with_product = selectinload(PlanRevision.plan).selectinload(Plan.product)
    those = PlanRevision.id.in_({x.revision_id for x in of})
    revisions = {r.id: r for r in session.scalars(select(PlanRevision).where(those).options(with_product))}
    with_application = selectinload(Subscription.application)
    mine = Subscription.id.in_({x.subscription_id for x in of})
    subscriptions = {s.id: s for s in session.scalars(select(Subscription).where(mine).options(with_application))}
    found = {}
    for x in of:
        if x.subscription_id is None or x.revision_id is None:
            continue
        assert x.segment_start is not None and x.segment_end is not None
        revision = revisions[x.revision_id]
        charged = Charged(
            application=subscriptions[x.subscription_id].application.name,
            product=revision.plan.product.name,
            plan=revision.plan.name,
            revision_id=revision.id,
            revision=revision.number,
            subscription_id=x.subscription_id,
            segment_start=x.segment_start,
            segment_end=x.segment_end,
            days=x.days,
        )
        found[x.id] = (charged, revision)
    return found


def _slice(kept: Mapping[str, str]) -> SliceView:
    return SliceView(*(Decimal(kept[name]) for name in ("quantity", "unit", "flat", "amount")))


def label(x: MoneyLine, meters: Mapping[int, Meter]) -> str:
    """What a line is called: its own words, or what it charges."""
    if x.words:
        return x.words
    return meters[x.meter_id].name if x.meter_id else x.kind.capitalize()


def _rule(
    x: MoneyLine, placed: Mapping[int, tuple[Charged, PlanRevision]], meters: Mapping[int, Meter], currency: str
) -> str:
    if x.id not in placed:
        return ""
    pricing = read(PlanTerms, placed[x.id][1].terms).pricing
    meter = meters[x.meter_id].key if x.meter_id else None
    return line_in_words(pricing, x.kind, meter, x.nth, currency)
