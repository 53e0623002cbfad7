"""Payments and refunds, as they are booked and told of, and payments that went back.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import reasons
from calm_tariff.core.billing.accounts import payments as rules
from calm_tariff.core.billing.accounts.payments import Money, Way
from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import NOT_ISSUED
from calm_tariff.core.money import in_digits
from calm_tariff.core.notices import Kind
from calm_tariff.core.periods import local_day
from calm_tariff.services.base import auditing, idempotency
from calm_tariff.services.base.context import Context, provider_of, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.settle.accounts import booking
from calm_tariff.store.admit import merged, subscribers
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.settle.accounts import AccountEntry, Allocation
from calm_tariff.store.settle.money_documents import Invoice

ZERO = Decimal(0)


@dataclass(frozen=True, slots=True, kw_only=True)
class Booked:
    """An entry that was booked."""

    id: int


def receive(
    ctx: Context, consumer_id: int, money: Money, invoice_id: int | None = None, key: str | None = None
) -> Booked:
    """Book a transfer that came in, for one of the consumer's invoices or for none. Raises `NotFound`, or `Invalid`,
    naming the field."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        before = idempotency.answered(session, ctx, key, f"receive {consumer_id} {money} {invoice_id}")
        if before is not None:
            return Booked(**before)
        owner = _owner(session, consumer_id)
        invoice = None if invoice_id is None else own_invoice(session, owner, invoice_id)
        entry = book(session, ctx, owner, _checked(session, ctx, money), invoice)
        return _remembered(session, ctx, key, entry)


def refund(ctx: Context, consumer_id: int, money: Money, key: str | None = None) -> Booked:
    """Book that credit on account was paid out. Raises `NotFound`, or `Invalid`, naming the field, for more than there
    is."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        before = idempotency.answered(session, ctx, key, f"refund {consumer_id} {money}")
        if before is not None:
            return Booked(**before)
        owner = _owner(session, consumer_id)
        entry = book(session, ctx, owner, _checked(session, ctx, money), refund=True)
        return _remembered(session, ctx, key, entry)


def went_back(ctx: Context, entry_id: int, reason: str, key: str | None = None) -> Booked:
    """Book that a payment went back, or was never there: what it paid is open again. Raises `NotFound`, `Invalid`,
    naming the field, or `Conflict` where it is no payment, or went back already."""
    ctx.actor.must_be("finance")
    reason = reasons.given(reason, "say why: its consumer is told")
    with ctx.transaction() as session:
        before = idempotency.answered(session, ctx, key, f"return {entry_id} {reason}")
        if before is not None:
            return Booked(**before)
        payment = session.get(AccountEntry, entry_id)
        if payment is None:
            raise NotFound("there is no such entry", str(entry_id))
        owner = booking.held(session, payment.consumer_id)
        if payment.kind != "payment":
            raise Conflict(f"is no payment but {_a(payment.kind)}", "the entry")
        if session.scalar(select(AccountEntry.id).where(AccountEntry.returned_id == payment.id)) is not None:
            raise Conflict("went back already", "the payment")
        entry = booking.returned(session, ctx, payment, reason)
        after = {"amount": str(entry.amount)}
        auditing.note(
            session, ctx, "booked that a payment went back", _subject(payment, owner), after=after, why=reason
        )
        _tell(session, ctx, "payment returned", entry)
        return _remembered(session, ctx, key, entry)


def book(
    session: Session,
    ctx: Context,
    owner: Consumer,
    money: Money,
    invoice: Invoice | None = None,
    *,
    refund: bool = False,
    bank_entry_id: int | None = None,
    way: Way = "transfer",
) -> AccountEntry:
    """Book money that came in, or went out as a `refund`, and tell of it; `bank_entry_id` is what the bank said of a
    transfer. Whoever calls this holds the owner. Raises `Invalid`, naming the field."""
    if refund:
        entry = booking.refunded(session, ctx, owner, money, way)
    else:
        entry = booking.paid(session, ctx, owner, money, way, invoice)
    entry.bank_entry_id = bank_entry_id
    after = {"amount": str(entry.amount), "for": invoice.number if invoice is not None else None}
    auditing.note(
        session, ctx, "booked a refund" if refund else "booked a payment", _subject(entry, owner), after=after
    )
    _tell(session, ctx, "payment refunded" if refund else "payment received", entry)
    return entry


def take_back(session: Session, ctx: Context, owner: Consumer, payment: AccountEntry, reason: str) -> AccountEntry:
    """Book that a payment went back, and tell of it. Whoever calls this holds the owner. Raises `Invalid` where part
    of it was paid out."""
    entry = booking.returned(session, ctx, payment, reason)
    subject, after = _subject(payment, owner), {"amount": str(entry.amount)}
    auditing.note(session, ctx, "booked that a payment went back", subject, after=after, why=reason)
    _tell(session, ctx, "payment returned", entry)
    return entry


def _owner(session: Session, consumer_id: int) -> Consumer:
    if session.get(Consumer, consumer_id) is None:
        raise NotFound("there is no such consumer", str(consumer_id))
    return booking.held(session, consumer_id)


def own_invoice(session: Session, owner: Consumer, invoice_id: int) -> Invoice:
    """An issued invoice of a consumer. Raises `Invalid`, naming the field."""
    found = session.get(Invoice, invoice_id)
    if found is None or found.consumer_id not in merged.with_merged(session, owner.id):
        raise Invalid("is no invoice of this consumer", "invoice_id")
    if found.state in NOT_ISSUED:
        raise Invalid(f"is {found.state}: only what is issued is paid", "invoice_id")
    return found


def _checked(session: Session, ctx: Context, money: Money) -> Money:
    return rules.checked(money, provider_of(session).currency, local_day(ctx.now_us, zone_of(session)))


def _a(kind: str) -> str:
    return f"an {kind}" if kind[0] in "aeiou" else f"a {kind}"


def _subject(entry: AccountEntry, owner: Consumer) -> Thing:
    return Thing("refund" if entry.kind == "refund" else "payment", entry.id, owner.name, owner.id)


def _tell(session: Session, ctx: Context, kind: Kind, entry: AccountEntry) -> None:
    """Tell those who see an organisation's money of an entry, and what a payment went to."""
    currency = provider_of(session).currency
    query = (
        select(Invoice.number, Allocation.amount)
        .join(Invoice, Invoice.id == Allocation.invoice_id)
        .where(Allocation.by_id == entry.id, Allocation.amount > 0)
        .order_by(Allocation.id)
    )
    closed = [f"{number}: {in_digits(amount, currency)}" for number, amount in session.execute(query)]
    fields = {
        "total": in_digits(entry.amount, currency),
        "currency": currency,
        "day": f"{entry.value_on or entry.on:%-d %B %Y}",
        "closed": closed if kind == "payment received" else [],
        "credit": in_digits(entry.left, currency) if entry.left else "",
        "reason": entry.reason,
    }
    notice = Notice(kind=kind, fields=fields, page="/account")
    notify(session, ctx, members(subscribers.members_who_may(session, entry.consumer_id, "see money")), notice)


def _remembered(session: Session, ctx: Context, key: str | None, entry: AccountEntry) -> Booked:
    idempotency.remember(session, ctx, key, {"id": entry.id})
    return Booked(id=entry.id)
