"""Invoices and credit notes, as the provider's people and their consumers read them."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core.billing.bank.references import creditor_reference
from calm_tariff.core.errors import NotFound
from calm_tariff.core.lifecycles import NOT_ISSUED
from calm_tariff.core.periods import Period, day_start
from calm_tariff.services.admit import cards, paying
from calm_tariff.services.base.context import ROLES, Context, provider_of, zone_of
from calm_tariff.services.settle.accounts import ledger, reminding, writing_off
from calm_tariff.services.settle.accounts.ledger import AllocatedPart
from calm_tariff.services.settle.accounts.reminding import ReminderView
from calm_tariff.services.settle.accounts.writing_off import WriteOffView
from calm_tariff.services.settle.cards import planning, showing
from calm_tariff.services.settle.cards.showing import AttemptView
from calm_tariff.services.settle.documents import adjustments, credit_notes, files, late_usage, views
from calm_tariff.services.settle.documents.adjustments import AdjustmentView
from calm_tariff.services.settle.documents.views import (
    ZERO,
    CreditNoteSummary,
    InvoiceSummary,
    LineView,
    TaxGroupView,
    credit_note_summary,
    invoice_summary,
)
from calm_tariff.store.admit import merged
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.serve import local_days
from calm_tariff.store.settle.money_documents import CreditNote, Invoice, MoneyDocument, MoneyLine


@dataclass(frozen=True, slots=True, kw_only=True)
class ProposedCredit:
    """Something that an issued period comes to less by what is recorded now, and the invoice on which it stands."""

    label: str
    number: str
    amount: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class Transfer:
    """What a transfer that pays an invoice is to carry: the creditor reference (ISO 11649), and where it goes."""

    reference: str
    iban: str
    bic: str


@dataclass(frozen=True, slots=True, kw_only=True)
class InvoiceView:
    """An invoice with its lines, and what corrects it. `paid` is how, in words; "" where its consumer had not said so.
    `proposed` is what may be credited by what is recorded now, `less` comes of it before tax. Of an invoice with late
    lines, `late_of` are the invoices of the periods they belong to. `closing` is what closed it, `transfer` what pays
    what is open of it; `card` is the one that pays it, in words, `attempts` what was tried, and `next_try` the day on
    which it is tried next by itself. `files` are the forms in which it is written down."""

    summary: InvoiceSummary
    paid: str
    subtotal: Decimal
    tax_groups: list[TaxGroupView]
    tax: Decimal
    total: Decimal
    created_at: datetime
    issued_at: datetime | None
    lines: list[LineView]
    adjustments: list[AdjustmentView]
    credit_notes: list[CreditNoteSummary]
    proposed: list[ProposedCredit]
    less: Decimal
    late_of: list[InvoiceSummary]
    closing: list[AllocatedPart]
    reminders: list[ReminderView]
    write_offs: list[WriteOffView]
    transfer: Transfer | None
    card: str
    attempts: list[AttemptView]
    next_try: date | None
    files: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class CreditNoteView:
    """A credit note with its lines: what each takes back is above 0 where the line it corrects is. Where it is
    `chargeable_again`, what recorded usage comes to is charged late with the next invoice."""

    summary: CreditNoteSummary
    subtotal: Decimal
    tax_groups: list[TaxGroupView]
    tax: Decimal
    total: Decimal
    lines: list[LineView]
    chargeable_again: bool
    files: list[str]


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
        query = query.where(Invoice.state.not_in(NOT_ISSUED))
    return [invoice_summary(i) for i in session.scalars(query)]


def one(ctx: Context, invoice_id: int) -> InvoiceView:
    """Any invoice, for the provider's staff. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return _view(session, ctx, _get(session, invoice_id))


def own(ctx: Context) -> list[InvoiceSummary]:
    """The signed-in consumer's issued invoices."""
    with ctx.reading() as session:
        return of_consumer(session, ctx.actor.consumer_to("see money"), issued_only=True)


def own_one(ctx: Context, invoice_id: int) -> InvoiceView:
    """One's own issued invoice, without what the provider's people say of it among themselves. Raises `NotFound` for
    another's, just as for none."""
    with ctx.reading() as session:
        return _view(session, ctx, _own(session, ctx, invoice_id), own=True)


def credit_note(ctx: Context, note_id: int) -> CreditNoteView:
    """Any credit note, for the provider's staff. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return _note_view(session, credit_notes.load(session, note_id))


def own_credit_notes(ctx: Context) -> list[CreditNoteSummary]:
    """The signed-in consumer's credit notes, newest first, with those of others that were merged into it."""
    with ctx.reading() as session:
        whose = merged.with_merged(session, ctx.actor.consumer_to("see money"))
        query = select(CreditNote).where(CreditNote.consumer_id.in_(whose)).order_by(CreditNote.id.desc())
        return [credit_note_summary(note) for note in session.scalars(query)]


def own_credit_note(ctx: Context, note_id: int) -> CreditNoteView:
    """One's own credit note. Raises `NotFound` for another's, just as for none."""
    with ctx.reading() as session:
        owner = ctx.actor.consumer_to("see money")
        note = credit_notes.load(session, note_id)
        if not _is_own(session, owner, note):
            raise NotFound("there is no such credit note", str(note_id))
        return _note_view(session, note)


def evidence(ctx: Context, invoice_id: int) -> dict[str, Any]:
    """The rating case from which `./calm rate` computes the invoice's own lines again."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return _get(session, invoice_id).evidence


def own_evidence(ctx: Context, invoice_id: int) -> dict[str, Any]:
    """The evidence of one's own issued invoice."""
    with ctx.reading() as session:
        return _own(session, ctx, invoice_id).evidence


def late_evidence(ctx: Context, invoice_id: int, of_id: int) -> dict[str, Any]:
    """The case from which `./calm late` computes an invoice's late lines again, of the period that another invoice
    (`of_id`) is for. Raises `NotFound` where it has none of that."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return _late_case(_get(session, invoice_id), of_id)


def own_late_evidence(ctx: Context, invoice_id: int, of_id: int) -> dict[str, Any]:
    """The same of one's own issued invoice."""
    with ctx.reading() as session:
        return _late_case(_own(session, ctx, invoice_id), of_id)


def _late_case(invoice: Invoice, of_id: int) -> dict[str, Any]:
    kept = invoice.late_cases.get(str(of_id))
    if kept is None:
        raise NotFound("has no late lines of that invoice's period", str(of_id))
    found: dict[str, Any] = kept["case"]
    return found


def days(ctx: Context, line_id: int) -> list[DayUnits]:
    """The local days behind a usage line. Their units sum to the line's quantity."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        line = session.get(MoneyLine, line_id)
        if line is None:
            raise NotFound("there is no such line", str(line_id))
        return _days(session, line)


def own_days(ctx: Context, line_id: int) -> list[DayUnits]:
    """The days behind a line of one's own issued document."""
    with ctx.reading() as session:
        owner = ctx.actor.consumer_to("see money")
        line = session.get(MoneyLine, line_id)
        if line is None or not _is_own(session, owner, line.document):
            raise NotFound("there is no such line", str(line_id))
        return _days(session, line)


def _days(session: Session, line: MoneyLine) -> list[DayUnits]:
    """The days as they were when the line was made, and what has arrived for the own line of an issued invoice
    since."""
    where = zone_of(session)
    start = day_start(line.belongs_to, where)
    end = day_start(line.document.period_end, where) if line.sort == "own" else None
    kept = None if line.by_day is None else {date.fromisoformat(day): Decimal(units) for day, units in line.by_day}
    now: dict[date, Decimal] = {}
    if line.sort == "own" and end is not None and line.subscription_id is not None:
        counted = local_days.units_by_day(session, start, end, [line.subscription_id], where)
        now = counted.get((line.stay_id or 0, line.meter_id or 0), {})
    if kept is None:
        kept = now
    since = line.sort == "own" and line.document.state != "draft"
    found = []
    for day in sorted({*now, *kept}):
        begin, after = day_start(day, where), day_start(date.fromordinal(day.toordinal() + 1), where)
        units = kept.get(day, ZERO)
        late = now.get(day, ZERO) - units if since else ZERO
        found.append(DayUnits(day, units, late, max(begin, start), after if end is None else min(after, end)))
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


def _is_own(session: Session, owner: int, document: MoneyDocument) -> bool:
    return document.state not in NOT_ISSUED and document.consumer_id in merged.with_merged(session, owner)


def _view(session: Session, ctx: Context, i: Invoice, own: bool = False) -> InvoiceView:
    issued = i.state != "draft"
    credited = credit_notes.credited(session, [x.id for x in i.lines]) if issued else {}
    lines = views.lines(session, i, credited, _late(session, i) if issued else {})
    proposed = [] if own or i.state in NOT_ISSUED else _proposed(session, i)
    late_of = session.scalars(select(Invoice).where(Invoice.id.in_([int(n) for n in i.late_cases]))).all()
    return InvoiceView(
        summary=invoice_summary(i),
        paid=paying.said(i if i.issued_at else i.consumer),
        subtotal=i.subtotal,
        tax_groups=views.tax_groups(i, i.consumer.tax_note),
        tax=i.tax,
        total=i.total,
        created_at=i.created_at,
        issued_at=i.issued_at,
        lines=lines,
        adjustments=[] if own else adjustments.of_invoice(session, ctx, i),
        credit_notes=[credit_note_summary(note) for note in credit_notes.of_invoice(session, i.id)],
        proposed=proposed,
        less=sum((each.amount for each in proposed), ZERO),
        late_of=[invoice_summary(x) for x in late_of],
        closing=ledger.closing(session, i.id),
        reminders=reminding.of_invoices(session, [i.id]).get(i.id, []),
        write_offs=[] if own else writing_off.of_invoice(session, ctx, i.id),
        transfer=_transfer(session, i) if i.number and i.open_amount else None,
        **_by_card(session, ctx, i, own),
        files=files.forms(session, i.id),
    )


def _by_card(session: Session, ctx: Context, i: Invoice, own: bool) -> dict[str, Any]:
    """What pays what is open of it where a card is there, and what was tried."""
    owner = merged.successors(session).get(i.consumer_id, i.consumer_id)
    card = cards.current(session, owner) if i.number and i.open_amount else None
    attempts = showing.of_invoice(session, i.id)
    return {
        "card": "" if card is None else cards.card_of(card).in_words,
        "attempts": [replace(each, planned_by="") for each in attempts] if own else attempts,
        "next_try": planning.next_try(session, ctx, i, card),
    }


def _transfer(session: Session, i: Invoice) -> Transfer:
    provider = provider_of(session)
    return Transfer(reference=creditor_reference(i.number or ""), iban=provider.iban, bic=provider.bic)


def _note_view(session: Session, note: CreditNote) -> CreditNoteView:
    return CreditNoteView(
        summary=credit_note_summary(note),
        subtotal=note.subtotal,
        tax_groups=views.tax_groups(note, note.consumer.tax_note),
        tax=note.tax,
        total=note.total,
        lines=views.lines(session, note, {}, {}),
        chargeable_again=note.chargeable_again,
        files=files.forms(session, note.id),
    )


def _proposed(session: Session, i: Invoice) -> list[ProposedCredit]:
    meters = {m.id: m for m in session.scalars(select(Meter))}
    return [
        ProposedCredit(label=views.label(line, meters), number=of.number or "", amount=line.amount)
        for of, taken in credit_notes.proposal(session, i).items()
        for line in taken
    ]


def _late(session: Session, i: Invoice) -> dict[int, Decimal]:
    """Units recorded now beyond those on documents, by the line of an issued invoice."""
    apart = late_usage.differing(session, Period(i.period_start, i.period_end), [i.consumer_id])
    return {
        x.id: apart.get((i, x.stay_id, x.meter_id), ZERO)
        for x in i.lines
        if x.sort == "own" and x.kind == "usage" and x.stay_id is not None and x.meter_id is not None
    }
