"""Credit notes: what of an issued invoice is taken back, line by line, by a person's decision or because less usage is
recorded now.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from decimal import Decimal

from sqlalchemy import func, select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core import reasons
from calm_tariff.core.billing.documents import credit_notes as rules
from calm_tariff.core.billing.documents.credit_notes import Creditable, LeftOfGroup, Taken
from calm_tariff.core.billing.documents.late import CONSEQUENCES, Difference
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import NOT_ISSUED
from calm_tariff.core.money import in_digits
from calm_tariff.core.periods import local_day
from calm_tariff.formats.values import write
from calm_tariff.services.base import auditing, idempotency
from calm_tariff.services.base.context import Context, provider_of, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.settle.accounts import booking
from calm_tariff.services.settle.documents import drafting, files, late_lines, numbering
from calm_tariff.services.settle.documents.late_lines import LatePeriod
from calm_tariff.services.settle.periods import reckoning
from calm_tariff.store.admit import merged, subscribers
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.locking import all_locked, locked
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.settle.money_documents import CreditNote, Invoice, MoneyDocument, MoneyLine

ZERO = Decimal(0)
WHY = "say why: it stands on the credit note"


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """What somebody wants to take back of an invoice: of these lines so much, or of all what is left, and why. Where it
    is to be `chargeable_again`, the next invoice charges late what recorded usage then comes to."""

    reason: str
    lines: tuple[Taken, ...] = ()
    whole: bool = False
    chargeable_again: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Issued:
    """A credit note that was issued."""

    id: int
    number: str


@dataclass(frozen=True, slots=True, kw_only=True)
class WorkedOut:
    """What a credit note would come to."""

    subtotal: Decimal
    tax: Decimal
    total: Decimal
    currency: str


def worked_out(ctx: Context, invoice_id: int, wanted: Wanted) -> WorkedOut:
    """What taking this back would come to; nothing is issued. Raises as `issue` does."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        note = _drafted(session, ctx, _issued(session, invoice_id), wanted)
        return WorkedOut(subtotal=note.subtotal, tax=note.tax, total=note.total, currency=note.currency)


def issue(ctx: Context, invoice_id: int, wanted: Wanted, key: str | None = None) -> Issued:
    """Take something of an issued invoice back, by a credit note that its owners get by mail. Raises `NotFound`,
    `Invalid`, naming the field, or `Conflict` where it is a draft, or more than is left of a line."""
    ctx.actor.must_be("finance")
    reasons.given(wanted.reason, WHY)
    with ctx.transaction() as session:
        before = idempotency.answered(session, ctx, key, f"credit {invoice_id} {wanted}")
        if before is not None:
            return Issued(**before)
        invoice = _issued(session, invoice_id)
        note = _numbered(session, ctx, invoice, _drafted(session, ctx, invoice, wanted))
        result = Issued(id=note.id, number=note.number or "")
        idempotency.remember(session, ctx, key, write(result))
        return result


def issue_proposed(ctx: Context, invoice_id: int, reason: str, key: str | None = None) -> list[Issued]:
    """Take back what an issued period comes to less by all usage recorded for it now: on one credit note, and where
    part of it was charged late on later invoices, on one more for each of those. Raises `NotFound`, `Invalid`, naming
    the field, or `Conflict` where there is nothing to take back."""
    ctx.actor.must_be("finance")
    reason = reasons.given(reason, WHY)
    with ctx.transaction() as session:
        before = idempotency.answered(session, ctx, key, f"credit what is proposed for {invoice_id}")
        if before is not None:
            return [Issued(**each) for each in before["notes"]]
        invoice = _issued(session, invoice_id)
        proposed = proposal(session, invoice)
        if not proposed:
            raise Conflict("comes to no less by what is recorded now", invoice.number or "")
        made = [
            _numbered(session, ctx, of, _note(session, ctx, of, lines, reason=reason, again=True))
            for of, lines in proposed.items()
        ]
        results = [Issued(id=note.id, number=note.number or "") for note in made]
        idempotency.remember(session, ctx, key, {"notes": write(results)})
        return results


def proposal(session: Session, invoice: Invoice) -> dict[Invoice, list[MoneyLine]]:
    """What is to be credited of an issued invoice's period by all that is recorded now, by the invoice on which it
    stands: its own, and later ones that charged part of it late. Nothing is proposed of what was given back already."""
    owner = merged.successors(session).get(invoice.consumer_id, invoice.consumer_id)
    found = late_lines.waiting(session, invoice.period_end, [owner], [invoice.period_start])
    of = next((x for x in found if x.invoice.id == invoice.id), None)
    return _spread(session, of) if of is not None else {}


def credited(session: Session, lines: Iterable[int]) -> dict[int, Decimal]:
    """What credit notes took from lines so far, by line."""
    query = (
        select(MoneyLine.origin_id, func.sum(MoneyLine.amount))
        .where(MoneyLine.origin_id.in_(list(lines)), MoneyLine.sort == "credit")
        .group_by(MoneyLine.origin_id)
    )
    return {line: amount for line, amount in session.execute(query) if line is not None}


def of_invoice(session: Session, invoice_id: int) -> Sequence[CreditNote]:
    """The credit notes of an invoice, in the order in which they were issued."""
    query = select(CreditNote).where(CreditNote.corrects_id == invoice_id).order_by(CreditNote.id)
    return session.scalars(query).all()


def _issued(session: Session, invoice_id: int) -> Invoice:
    """An issued invoice, held with its consumer: nothing else is credited or charged late for it meanwhile."""
    whose = session.scalar(select(Invoice.consumer_id).where(Invoice.id == invoice_id))
    if whose is None:
        raise NotFound("there is no such invoice", str(invoice_id))
    all_locked(session, Consumer, {merged.successors(session).get(whose, whose)})
    invoice = locked(session, Invoice, invoice_id)
    if invoice is None:
        raise NotFound("there is no such invoice", str(invoice_id))
    if invoice.state in NOT_ISSUED:
        raise Conflict(f"is {invoice.state}: only what is issued can be credited", "invoice")
    if invoice.state == "written off":
        raise Conflict("is written off", "invoice")
    return invoice


def _creditable(session: Session, invoice: MoneyDocument) -> list[Creditable]:
    before = credited(session, [line.id for line in invoice.lines])
    return [Creditable(line=line.id, amount=line.amount, credited=before.get(line.id, ZERO)) for line in invoice.lines]


def _spread(session: Session, of: LatePeriod) -> dict[Invoice, list[MoneyLine]]:
    """Differences to be credited by the invoice whose lines they take back: the period's own first. What a minimum or
    a cap gives back instead stands on the first note without a line of its own to correct; what it takes, on a note
    that gives back as much."""
    meters = dict(session.execute(select(Meter.key, Meter.id)).all())
    made: list[tuple[Invoice, MoneyLine]] = []
    for each in of.parted.credited:
        meter_id = meters[each.meter] if each.meter else None
        lines = {line.id: line for line in late_lines.alike(of, each, meter_id)}
        before = credited(session, lines)
        creditable = [Creditable(line=i, amount=x.amount, credited=before.get(i, ZERO)) for i, x in lines.items()]
        left, amount = sum((x.left for x in creditable), ZERO), -each.amount
        if each.kind in CONSEQUENCES and (not left or (amount < 0) != (left < 0)):
            made.append((of.invoice, _without_origin(of, each, meter_id)))
            continue
        amount = min(amount, left) if amount > 0 else max(amount, left)
        for place, (line_id, part) in enumerate(rules.spread(amount, creditable).items()):
            line = lines[line_id]
            quantity = -each.quantity if each.quantity is not None and place == 0 else None
            made.append((session.get_one(Invoice, line.document_id), _taken_back(line, part, quantity)))
    found: dict[Invoice, list[MoneyLine]] = {}
    for own, line in sorted(made, key=lambda each: each[1].amount < 0):
        notes = {on.id: sum((x.amount for x in lines), ZERO) for on, lines in found.items()}
        parts = rules.borne(line.amount, notes, own.id)
        for place, (note, part) in enumerate(parts.items()):
            on = session.get_one(Invoice, note)
            found.setdefault(on, []).append(line if part == line.amount else _part_of(line, part, place))
    return found


def _part_of(line: MoneyLine, amount: Decimal, place: int) -> MoneyLine:
    """So much of a line that several notes bear; the first of them says its quantity."""
    kept = {column.name: getattr(line, column.name) for column in MoneyLine.__table__.columns if column.name != "id"}
    return MoneyLine(**{**kept, "amount": amount, "quantity": None if place else line.quantity})


def _taken_back(line: MoneyLine, amount: Decimal, quantity: Decimal | None = None) -> MoneyLine:
    """So much of a line, as a line of a credit note. Taxed as the line is."""
    return MoneyLine(
        sort="credit",
        belongs_to=line.belongs_to,
        kind=line.kind,
        nth=line.nth,
        amount=amount,
        treatment=line.treatment,
        percent=line.percent,
        words=line.words,
        origin_id=line.id,
        segment=line.segment,
        subscription_id=line.subscription_id,
        revision_id=line.revision_id,
        stay_id=line.stay_id,
        segment_start=line.segment_start,
        segment_end=line.segment_end,
        meter_id=line.meter_id,
        quantity=quantity,
    )


def _without_origin(of: LatePeriod, each: Difference, meter_id: int | None) -> MoneyLine:
    line = late_lines.line_of(of, each, meter_id)
    line.sort, line.origin_id, line.amount, line.slices = "credit", None, -each.amount, []
    line.quantity = None if each.quantity is None else -each.quantity
    return line


def _drafted(session: Session, ctx: Context, invoice: Invoice, wanted: Wanted) -> CreditNote:
    """The credit note that somebody wants, before it is issued."""
    creditable = _creditable(session, invoice)
    taken = rules.whole(creditable) if wanted.whole else wanted.lines
    if wanted.whole and not taken:
        raise Conflict("is credited whole already", invoice.number or "")
    rules.check(creditable, taken)
    lines = {line.id: line for line in invoice.lines}
    made = [_taken_back(lines[each.line], each.amount) for each in taken]
    return _note(session, ctx, invoice, made, reason=wanted.reason.strip(), again=wanted.chargeable_again)


def _note(
    session: Session, ctx: Context, invoice: Invoice, lines: list[MoneyLine], reason: str, again: bool
) -> CreditNote:
    """A credit note with these lines, and what they come to."""
    for place, line in enumerate(lines):
        line.place = place
    note = CreditNote(
        consumer_id=invoice.consumer_id,
        period_start=invoice.period_start,
        period_end=invoice.period_end,
        currency=invoice.currency,
        state="issued",
        created_at=ctx.now,
        issued_at=ctx.now,
        corrects_id=invoice.id,
        reason=reason,
        chargeable_again=again,
        lines=lines,
    )
    drafting.summed(note)
    earlier = of_invoice(session, invoice.id)
    _take_rest_of_tax(note, invoice, earlier)
    left = invoice.total - sum((other.total for other in earlier), ZERO)
    if note.total > left:
        words = f"comes to {note.total} with tax, and {left} are left of the invoice: take back a little less"
        raise Conflict(words, invoice.number or "")
    if note.total < 0:
        raise Conflict("would come to less than nothing", invoice.number or "")
    return note


def _take_rest_of_tax(note: CreditNote, invoice: Invoice, earlier: Sequence[CreditNote]) -> None:
    """Have a note that takes back all that is left of a tax group take all that is left of its tax."""
    left = {(group.treatment, group.percent): LeftOfGroup(group.base, group.tax) for group in invoice.tax_groups}
    for each in [group for other in earlier for group in other.tax_groups]:
        rule = each.treatment, each.percent
        if rule in left:
            left[rule] = left[rule].less(each.base, each.tax)
    for group in note.tax_groups:
        group.tax = rules.tax_back(group.base, group.tax, left.get((group.treatment, group.percent)))
    note.tax = sum((group.tax for group in note.tax_groups), ZERO)
    note.total = note.subtotal + note.tax


def _numbered(session: Session, ctx: Context, invoice: Invoice, note: CreditNote) -> CreditNote:
    """A credit note that is issued: with its number, kept and told."""
    provider = provider_of(session)
    year = local_day(ctx.now_us, zone_of(session)).year
    note.number = numbering.next_number(session, "credit note", year, provider.credit_note_prefix)
    session.add(note)
    session.flush()
    subject = Thing("credit note", note.id, note.number, note.consumer_id)
    after = {"total": str(note.total), "of": invoice.number}
    reckoning.forget(session, ctx)
    auditing.note(session, ctx, "issued a credit note", subject, after=after, why=note.reason)
    booking.credit_note_issued(session, ctx, note, invoice)
    files.begin(session, ctx, note)
    _tell(session, ctx, note, invoice)
    return note


def _tell(session: Session, ctx: Context, note: CreditNote, invoice: Invoice) -> None:
    fields = {
        "number": note.number,
        "invoice": invoice.number,
        "period": f"{note.period_start:%B %Y}",
        "total": in_digits(note.total, note.currency),
        "currency": note.currency,
        "reason": note.reason,
    }
    notice = Notice(kind="credit note issued", fields=fields, page=f"/credit-notes/{note.id}", encloses=note.id)
    notify(session, ctx, members(subscribers.members_who_may(session, note.consumer_id, "see money")), notice)


def load(session: Session, note_id: int) -> CreditNote:
    """A credit note with its lines. Raises `NotFound`."""
    found = session.get(CreditNote, note_id, options=[selectinload(CreditNote.lines)])
    if found is None:
        raise NotFound("there is no such credit note", str(note_id))
    return found
