"""Entries of bank statements as they are read: what the bank says, what it may be for, what became of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal

from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.bank import matching
from calm_tariff.core.billing.bank.matching import Payable, Why
from calm_tariff.core.billing.bank.statements import BankLine
from calm_tariff.core.lifecycles import UNPAID
from calm_tariff.services.base.context import ROLES, Context, provider_of
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.settle.accounts import AccountEntry
from calm_tariff.store.settle.bank import BankEntry
from calm_tariff.store.settle.money_documents import Invoice

DONE = ("matched", "assigned", "sent back", "left alone")


@dataclass(frozen=True, slots=True, kw_only=True)
class Owing:
    """An invoice of which something is open, with its id and its consumer's."""

    invoice_id: int
    consumer_id: int
    payable: Payable


@dataclass(frozen=True, slots=True, kw_only=True)
class Guess:
    """An invoice that an entry may be for, and what speaks for it."""

    invoice_id: int
    number: str
    consumer_id: int
    consumer: str
    open: Decimal
    why: list[Why]


@dataclass(frozen=True, slots=True, kw_only=True)
class BookedPart:
    """What an entry was booked as."""

    entry_id: int
    consumer_id: int
    consumer: str
    kind: str
    amount: Decimal
    names: str


@dataclass(frozen=True, slots=True, kw_only=True)
class BankEntryView:
    """An entry of a statement, above 0 where money came in: what the bank says of it, what it may be for while it
    waits, and what became of it."""

    id: int
    statement: str
    reference: str
    booked_on: date
    value_on: date
    amount: Decimal
    currency: str
    name: str
    iban: str
    text: str
    creditor_reference: str
    state: str
    decided_by: str
    decided_at: datetime | None
    why: str
    guesses: list[Guess]
    booked: list[BookedPart]


def listed(ctx: Context, wanted: PageQuery, waiting: bool = True) -> Page[BankEntryView]:
    """A page of entries, those that wait for a person or those that are done. Orders: newest, oldest, amount."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        states = ("new", "waiting") if waiting else DONE
        query = select(BankEntry).where(BankEntry.state.in_(states))
        if wanted.words:
            said = (BankEntry.name, BankEntry.text, BankEntry.reference, BankEntry.creditor_reference)
            query = query.where(or_(*(column.contains(wanted.words, autoescape=True) for column in said)))
        orders = {"newest": -BankEntry.id, "oldest": BankEntry.id, "amount": BankEntry.amount}
        found = page(session, query, BankEntry.id, orders, wanted)
        known = payables(session) if waiting else {}
        booked, currency = _booked(session, [entry.id for entry in found.rows]), provider_of(session).currency
        return Page([_view(e, currency, known, booked) for e in found.rows], found.next, found.total)


def waiting(session: Session) -> int:
    """How many entries wait for a person."""
    return session.scalar(select(func.count()).where(BankEntry.state == "waiting")) or 0


def payables(session: Session) -> dict[str, Owing]:
    """Invoices of which something is open, by number."""
    query = (
        select(Invoice.id, Invoice.consumer_id, Invoice.number, Invoice.open_amount, Consumer.name)
        .join(Consumer, Consumer.id == Invoice.consumer_id)
        .where(Invoice.state.in_(UNPAID), Invoice.open_amount > 0)
        .order_by(Invoice.id)
    )
    return {
        number: Owing(
            invoice_id=invoice_id,
            consumer_id=consumer_id,
            payable=Payable(number=number, consumer=name, open=amount),
        )
        for invoice_id, consumer_id, number, amount, name in session.execute(query)
        if number is not None
    }


def line_of(entry: BankEntry) -> BankLine:
    """An entry as the rule sees it."""
    return BankLine(
        reference=entry.reference,
        booked_on=entry.booked_on,
        value_on=entry.value_on,
        amount=entry.amount,
        currency="",
        name=entry.name,
        iban=entry.iban,
        text=entry.text,
        creditor_reference=entry.creditor_reference,
    )


def _booked(session: Session, entry_ids: Sequence[int]) -> dict[int, list[BookedPart]]:
    query = (
        select(AccountEntry, Consumer.name, Invoice.number)
        .join(Consumer, Consumer.id == AccountEntry.consumer_id)
        .outerjoin(Invoice, Invoice.id == AccountEntry.invoice_id)
        .where(AccountEntry.bank_entry_id.in_(entry_ids))
        .order_by(AccountEntry.id)
    )
    found: dict[int, list[BookedPart]] = {}
    for each, consumer, number in session.execute(query):
        part = BookedPart(
            entry_id=each.id,
            consumer_id=each.consumer_id,
            consumer=consumer,
            kind=each.kind,
            amount=each.amount,
            names=number or "",
        )
        found.setdefault(each.bank_entry_id or 0, []).append(part)
    return found


def _view(
    entry: BankEntry, currency: str, known: dict[str, Owing], booked: dict[int, list[BookedPart]]
) -> BankEntryView:
    likely = matching.suggested(line_of(entry), [each.payable for each in known.values()])
    return BankEntryView(
        id=entry.id,
        statement=entry.statement.name,
        reference=entry.reference,
        booked_on=entry.booked_on,
        value_on=entry.value_on,
        amount=entry.amount,
        currency=currency,
        name=entry.name,
        iban=entry.iban,
        text=entry.text,
        creditor_reference=entry.creditor_reference,
        state=entry.state,
        decided_by=entry.decided_by,
        decided_at=entry.decided_at,
        why=entry.why,
        guesses=[_guess(known[each.number], list(each.why)) for each in likely],
        booked=booked.get(entry.id, []),
    )


def _guess(of: Owing, why: list[Why]) -> Guess:
    return Guess(
        invoice_id=of.invoice_id,
        number=of.payable.number,
        consumer_id=of.consumer_id,
        consumer=of.payable.consumer,
        open=of.payable.open,
        why=why,
    )
