"""Booking: every entry of an account is made here, posted, closes what it closes, and leaves each invoice in its state.

Whoever books holds the consumer until the transaction ends, so that entries come one after another.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from decimal import Decimal
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.accounts import account as rules
from calm_tariff.core.billing.accounts.account import Allocation as Allocated
from calm_tariff.core.billing.accounts.account import (
    Closed,
    Credit,
    Credited,
    Invoiced,
    Open,
    Paid,
    Refunded,
    WrittenOff,
)
from calm_tariff.core.billing.accounts.payments import Money, Way
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import INVOICE, UNPAID, move
from calm_tariff.core.periods import local_day
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context, zone_of
from calm_tariff.services.settle.accounts import open_items, pausing
from calm_tariff.services.settle.journal import posting
from calm_tariff.store.admit import merged
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.locking import all_locked
from calm_tariff.store.settle.accounts import AccountEntry, Allocation
from calm_tariff.store.settle.money_documents import CreditNote, Invoice

ZERO = Decimal(0)
Closing = Invoiced | Credited | Paid | Refunded | WrittenOff


def held(session: Session, consumer_id: int) -> Consumer:
    """Hold whoever has the account of a consumer now: itself, or who goes on in its place."""
    owner = merged.successors(session).get(consumer_id, consumer_id)
    (found,) = all_locked(session, Consumer, {owner})
    return found


def invoice_issued(session: Session, ctx: Context, invoice: Invoice) -> None:
    """An invoice is issued: it is owed, as far as no credit on account pays it at once. One of nothing is no entry."""
    if not invoice.total:
        return
    invoice.open_amount = invoice.total
    entry = _entry(session, ctx, invoice.consumer_id, "invoice", invoice.total, document=invoice, invoice=invoice)
    number, due = _number(invoice), invoice.due_on or entry.on
    _book(session, ctx, entry, Invoiced(id=number, on=entry.on, due=due, amount=invoice.total), invoice)


def credit_note_issued(session: Session, ctx: Context, note: CreditNote, invoice: Invoice) -> None:
    """A credit note is issued: it closes what is open of its invoice, and then of others."""
    if not note.total:
        return
    entry = _entry(session, ctx, note.consumer_id, "credit note", note.total, document=note, invoice=invoice)
    _book(session, ctx, entry, Credited(on=entry.on, amount=note.total, for_=_number(invoice)))


def paid(
    session: Session, ctx: Context, owner: Consumer, money: Money, way: Way, invoice: Invoice | None = None
) -> AccountEntry:
    """Money came in, for an invoice or for none."""
    entry = _entry(session, ctx, owner.id, "payment", money.amount, invoice=invoice, paid_by=way, **_told(money))
    number = None if invoice is None else _number(invoice)
    _book(session, ctx, entry, Paid(on=entry.on, amount=money.amount, for_=number))
    return entry


def refunded(session: Session, ctx: Context, owner: Consumer, money: Money, way: Way) -> AccountEntry:
    """Credit on account is paid out. Raises `Invalid`, naming the field, for more than there is."""
    entry = _entry(session, ctx, owner.id, "refund", money.amount, paid_by=way, **_told(money))
    _book(session, ctx, entry, Refunded(on=entry.on, amount=money.amount))
    return entry


def written_off(session: Session, ctx: Context, invoice: Invoice, reason: str) -> AccountEntry:
    """What is open of an invoice is written off. Raises `Invalid` where nothing is."""
    amount, whose = invoice.open_amount, invoice.consumer_id
    entry = _entry(session, ctx, whose, "write-off", amount, invoice=invoice, reason=reason)
    _book(session, ctx, entry, WrittenOff(on=entry.on, for_=_number(invoice)))
    return entry


def returned(session: Session, ctx: Context, payment: AccountEntry, reason: str) -> AccountEntry:
    """A payment went back: what it closed is open again, and takes what other credit there is. Raises `Invalid` where
    part of it was paid out."""
    went = session.scalars(select(Allocation).where(Allocation.entry_id == payment.id).order_by(Allocation.id)).all()
    invoices = {i.id: i for i in session.scalars(select(Invoice).where(Invoice.id.in_([a.invoice_id for a in went])))}
    by_number = {_number(i): i for i in invoices.values()}
    named = [
        Allocated(entry=a.entry_id, invoice=_number(invoices[a.invoice_id]) if a.invoice_id else None, amount=a.amount)
        for a in went
    ]
    found = rules.returned(payment.id, named)
    more = {"returned_id": payment.id, "reason": reason, "paid_by": payment.paid_by, "invoice": payment.invoice}
    entry = _entry(session, ctx, payment.consumer_id, "returned payment", payment.amount, **more)
    _allocate(session, ctx, entry, found, {payment.id: payment}, by_number)
    payment.left = ZERO
    _settle(session, ctx, entry.consumer_id, by_number.values())
    use_credit(session, ctx, entry.consumer_id, entry)
    return entry


def use_credit(session: Session, ctx: Context, owner: int, by: AccountEntry | None = None) -> None:
    """Where what is open and credit on account came to stand beside each other, as where two accounts became one, the
    credit goes to what is open. `by` is the entry that made it so, where one did."""
    session.flush()
    waiting = {_number(invoice): invoice for invoice in open_items.invoices(session, owner)}
    known = {each.id: each for each in open_items.credits(session, owner)}
    found = rules.used(map(_open, waiting.values()), _credit(known.values()))
    _allocate(session, ctx, by, found, known, waiting)
    _settle(session, ctx, owner, waiting.values())


def _entry(session: Session, ctx: Context, consumer_id: int, kind: str, amount: Decimal, **more: Any) -> AccountEntry:
    owner = merged.successors(session).get(consumer_id, consumer_id)
    made = AccountEntry(
        consumer_id=owner,
        kind=kind,
        on=local_day(ctx.now_us, zone_of(session)),
        at=ctx.now,
        amount=amount,
        left=amount if kind in ("payment", "credit note") else None,
        made_by=ctx.actor.name,
        **more,
    )
    session.flush()
    session.add(made)
    session.flush()
    posting.post(session, made)
    return made


def _book(session: Session, ctx: Context, entry: AccountEntry, closing: Closing, issued: Invoice | None = None) -> None:
    """Have an entry close what it closes. `issued` is the invoice that it is."""
    owner = entry.consumer_id
    waiting = [invoice for invoice in open_items.invoices(session, owner) if invoice is not issued]
    known = {each.id: each for each in open_items.credits(session, owner) if each is not entry}
    found = rules.allocated(closing, entry.id, map(_open, waiting), _credit(known.values()))
    by_number = {_number(invoice): invoice for invoice in waiting + ([issued] if issued is not None else [])}
    _allocate(session, ctx, entry, found, {**known, entry.id: entry}, by_number)
    touched = {each.invoice for each in found}
    _settle(session, ctx, owner, [of for number, of in by_number.items() if number in touched or of is issued])


def _allocate(
    session: Session,
    ctx: Context,
    by: AccountEntry | None,
    found: Sequence[Allocated],
    entries: dict[int, AccountEntry],
    invoices: dict[str, Invoice],
) -> None:
    today = local_day(ctx.now_us, zone_of(session))
    for each in found:
        invoice = None if each.invoice is None else invoices[each.invoice]
        entry = entries[each.entry]
        kept = Allocation(
            entry_id=each.entry,
            invoice_id=None if invoice is None else invoice.id,
            by_id=None if by is None else by.id,
            on=today,
            amount=each.amount,
        )
        session.add(kept)
        if invoice is not None:
            invoice.open_amount -= each.amount
        if entry.left is not None:
            entry.left -= each.amount
    session.flush()


def _settle(session: Session, ctx: Context, owner: int, touched: Iterable[Invoice]) -> None:
    """Have invoices in the state that their account gives them, and calls go on where nothing hinders them any more."""
    today = local_day(ctx.now_us, zone_of(session))
    for invoice in touched:
        late = invoice.due_on is not None and today > invoice.due_on
        state = rules.state_of(invoice.total, invoice.open_amount, _closed(session, invoice), overdue=late)
        if state == invoice.state:
            continue
        before, number = invoice.state, _number(invoice)
        invoice.state = move(INVOICE, number, before, state)
        subject = Thing("invoice", invoice.id, number, invoice.consumer_id)
        again = state in UNPAID and before not in UNPAID
        did = "found an invoice open again" if again else f"found an invoice {state}"
        auditing.note(session, ctx, did, subject, before={"state": before}, after={"state": state})
    session.flush()
    pausing.go_on_if_paid(session, ctx, owner)


def _closed(session: Session, invoice: Invoice) -> Closed:
    """How much of an invoice was closed by what is no payment."""
    query = (
        select(AccountEntry.kind, func.sum(Allocation.amount))
        .join(AccountEntry, AccountEntry.id == Allocation.entry_id)
        .where(Allocation.invoice_id == invoice.id, AccountEntry.invoice_id == invoice.id)
        .group_by(AccountEntry.kind)
    )
    sums: dict[str, Decimal] = {kind: amount for kind, amount in session.execute(query)}  # noqa: C416
    return Closed(by_credit_notes=sums.get("credit note", ZERO), by_write_offs=sums.get("write-off", ZERO))


def _open(invoice: Invoice) -> Open:
    assert invoice.due_on is not None
    return Open(id=_number(invoice), due=invoice.due_on, amount=invoice.open_amount)


def _credit(entries: Iterable[AccountEntry]) -> list[Credit]:
    return [Credit(entry=each.id, amount=each.left or ZERO) for each in entries]


def _told(money: Money) -> dict[str, Any]:
    return {"value_on": money.value_on, "reference": money.reference}


def _number(invoice: Invoice) -> str:
    return invoice.number or ""
