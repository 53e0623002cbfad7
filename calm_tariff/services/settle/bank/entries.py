"""Entries of bank statements: booked where they pay an invoice beyond doubt, else decided on by a person.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import reasons
from calm_tariff.core.billing.accounts.payments import Money
from calm_tariff.core.billing.bank import matching
from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import BANK_ENTRY, UNPAID, move
from calm_tariff.core.money import rounded
from calm_tariff.services.base import auditing, idempotency
from calm_tariff.services.base.context import SYSTEM, Context, provider_of
from calm_tariff.services.base.one_by_one import one_by_one
from calm_tariff.services.settle.accounts import booking, payments
from calm_tariff.services.settle.bank import views
from calm_tariff.services.settle.bank.views import Owing
from calm_tariff.store.admit import merged
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.locking import all_locked, locked
from calm_tariff.store.settle.accounts import AccountEntry
from calm_tariff.store.settle.bank import BankEntry
from calm_tariff.store.settle.money_documents import Invoice

ZERO = Decimal(0)
MOST_PARTS = 50


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """So much of an entry is a consumer's: for one of its invoices, or for what is due first."""

    consumer_id: int
    amount: Decimal
    invoice_id: int | None = None


def match_new(ctx: Context) -> int:
    """Book what pays an invoice beyond doubt of what was brought in and not looked at; the rest waits for a person.
    Returns how many were booked."""
    with ctx.transaction() as session:
        new = session.scalars(select(BankEntry.id).where(BankEntry.state == "new").order_by(BankEntry.id)).all()
        known = views.payables(session) if new else {}
    acting = ctx.acting(SYSTEM)
    return one_by_one(new, lambda entry: _matched(acting, entry, known))


def assign(ctx: Context, entry_id: int, parts: Sequence[Part], key: str | None = None) -> None:
    """Say whose an entry is, in one part or several that come to its amount: what came in is booked as payments, what
    went out as refunds. Raises `NotFound`, `Invalid`, naming the field, or `Conflict` where it waits for nobody."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        if idempotency.answered(session, ctx, key, f"assign {entry_id} {parts}") is not None:
            return
        entry = _waiting(session, entry_id)
        _check_parts(session, entry, parts)
        owners = _owners(session, [part.consumer_id for part in parts])
        for place, part in enumerate(parts):
            owner = owners[part.consumer_id]
            if entry.amount < 0 and part.invoice_id is not None:
                raise Invalid("goes with money that came in", f"parts[{place}].invoice_id")
            try:
                invoice = None if part.invoice_id is None else payments.own_invoice(session, owner, part.invoice_id)
                _book(session, ctx, entry, owner, part.amount, invoice)
            except Invalid as error:
                raise Invalid(error.what, f"parts[{place}].{error.where}") from None
        _decided(session, ctx, entry, "assigned", "assigned a bank entry")
        idempotency.remember(session, ctx, key, {"id": entry.id})


def send_back(ctx: Context, entry_id: int, why: str) -> None:
    """Say that money that came in is sent back to where it came from: it is booked for nobody. Raises as `assign`
    does."""
    _put_aside(ctx, entry_id, "sent back", "sent a bank entry back", why)


def leave_alone(ctx: Context, entry_id: int, why: str) -> None:
    """Say that an entry is no consumer's business. Raises as `assign` does."""
    _put_aside(ctx, entry_id, "left alone", "left a bank entry alone", why)


def take_back(ctx: Context, entry_id: int, why: str) -> None:
    """Have an entry wait again: what it was booked as went back. Raises `NotFound`, `Invalid`, naming the field, or
    `Conflict` where nothing was decided, or part of it was paid out again."""
    ctx.actor.must_be("finance")
    why = reasons.given(why, field="why")
    with ctx.transaction() as session:
        entry = _locked(session, entry_id)
        move(BANK_ENTRY, "the entry", entry.state, "waiting")
        booked = session.scalars(select(AccountEntry).where(AccountEntry.bank_entry_id == entry.id)).all()
        owners = _owners(session, [each.consumer_id for each in booked])
        went_back = AccountEntry.returned_id.in_([each.id for each in booked])
        gone = set(session.scalars(select(AccountEntry.returned_id).where(went_back)))
        for each in booked:
            if each.kind == "refund":
                raise Conflict("was paid out: book what comes back as a payment", "the entry")
            if each.kind == "payment" and each.id not in gone:
                payments.take_back(session, ctx, owners[each.consumer_id], each, why)
        _decided(session, ctx, entry, "waiting", "had a bank entry wait again", why)


def _matched(ctx: Context, entry_id: int, known: Mapping[str, Owing]) -> bool:
    """Whether an entry was booked. `known` is what was open a moment ago: what is open now decides."""
    with ctx.transaction() as session:
        entry = _locked(session, entry_id)
        if entry.state != "new":
            return False
        found = matching.sure(views.line_of(entry), [each.payable for each in known.values()])
        if found is None:
            entry.state = move(BANK_ENTRY, "the entry", entry.state, "waiting")
            return False
        meant = known[found.number]
        owner = booking.held(session, meant.consumer_id)
        invoice = locked(session, Invoice, meant.invoice_id)
        assert invoice is not None
        if invoice.state not in UNPAID or invoice.open_amount != entry.amount:  # it was paid meanwhile
            entry.state = move(BANK_ENTRY, "the entry", entry.state, "waiting")
            return False
        _book(session, ctx, entry, owner, entry.amount, invoice)
        _decided(session, ctx, entry, "matched", "matched a bank entry")
        return True


def _book(
    session: Session, ctx: Context, entry: BankEntry, owner: Consumer, amount: Decimal, invoice: Invoice | None
) -> None:
    reference = entry.creditor_reference or entry.text[:140]
    money = Money(amount=abs(amount), value_on=entry.value_on, reference=reference)
    payments.book(session, ctx, owner, money, invoice, refund=entry.amount < 0, bank_entry_id=entry.id)


def _check_parts(session: Session, entry: BankEntry, parts: Sequence[Part]) -> None:
    if not 1 <= len(parts) <= MOST_PARTS:
        raise Invalid(f"must be 1 to {MOST_PARTS}", "parts")
    currency = provider_of(session).currency
    for place, part in enumerate(parts):
        if not part.amount.is_finite() or part.amount <= 0 or part.amount != rounded(part.amount, currency):
            raise Invalid(f"must be above 0, in whole minor units of {currency}", f"parts[{place}].amount")
    whole = sum((part.amount for part in parts), ZERO)
    if whole != abs(entry.amount):
        told = rounded(abs(entry.amount), currency)
        raise Invalid(f"come to {rounded(whole, currency)}, and the entry is of {told}", "parts")


def _owners(session: Session, consumer_ids: Sequence[int]) -> dict[int, Consumer]:
    """Who has the accounts of consumers, held, by each consumer's id."""
    successors = merged.successors(session)
    now = {each: successors.get(each, each) for each in consumer_ids}
    held = {each.id: each for each in all_locked(session, Consumer, set(now.values()))}
    missing = [str(each) for each, owner in now.items() if owner not in held]
    if missing:
        raise Invalid(f"{missing[0]} is no consumer", "parts")
    return {each: held[owner] for each, owner in now.items()}


def _locked(session: Session, entry_id: int) -> BankEntry:
    entry = locked(session, BankEntry, entry_id)
    if entry is None:
        raise NotFound("there is no such bank entry", str(entry_id))
    return entry


def _waiting(session: Session, entry_id: int) -> BankEntry:
    entry = _locked(session, entry_id)
    if entry.state != "waiting":
        raise Conflict(f"is {entry.state} and waits for nobody", "the entry")
    return entry


def _put_aside(ctx: Context, entry_id: int, to: str, did: str, why: str) -> None:
    ctx.actor.must_be("finance")
    why = reasons.given(why, field="why")
    with ctx.transaction() as session:
        entry = _waiting(session, entry_id)
        if to == "sent back" and entry.amount < 0:
            raise Conflict("went out: there is nothing to send back", "the entry")
        _decided(session, ctx, entry, to, did, why)


def _decided(session: Session, ctx: Context, entry: BankEntry, to: str, did: str, why: str = "") -> None:
    before = entry.state
    entry.state = move(BANK_ENTRY, "the entry", entry.state, to)
    entry.decided_by, entry.decided_at, entry.why = ctx.actor.name, ctx.now, why
    subject = Thing("bank entry", entry.id, entry.reference)
    after = {"state": to, "amount": str(entry.amount)}
    auditing.note(session, ctx, did, subject, before={"state": before}, after=after, why=why)
