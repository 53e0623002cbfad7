"""One account as it is read: what is open of it, and entry by entry, where each went.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal

from sqlalchemy import case, func, select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.accounts import ages
from calm_tariff.core.billing.accounts.account import ADDS
from calm_tariff.core.billing.accounts.ages import Age
from calm_tariff.core.errors import NotFound
from calm_tariff.core.periods import local_day
from calm_tariff.services.admit import cards, payment_pauses
from calm_tariff.services.admit.cards import CardView
from calm_tariff.services.admit.payment_pauses import PaymentPauseView
from calm_tariff.services.base.context import ROLES, Context, provider_of, zone_of
from calm_tariff.services.settle.accounts import open_items, reminding
from calm_tariff.services.settle.accounts.reminding import ReminderView
from calm_tariff.services.settle.cards import refunding
from calm_tariff.store.admit import merged
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.settle.accounts import AccountEntry, Allocation
from calm_tariff.store.settle.money_documents import Invoice, MoneyDocument

ZERO = Decimal(0)


@dataclass(frozen=True, slots=True, kw_only=True)
class OpenInvoice:
    """An invoice of which something is open, how old that is, and the reminders that went out."""

    id: int
    number: str
    period_start: date
    due_on: date
    total: Decimal
    open: Decimal
    state: str
    age: Age
    reminders: list[ReminderView]


@dataclass(frozen=True, slots=True, kw_only=True)
class AccountView:
    """One account: what is open, what is on account, and the stretches in which calls were held up. `iban` is where
    transfers go, `card` what is paid by; of the credit, `refundable` can go back to a card at once."""

    consumer_id: int
    consumer: str
    currency: str
    balance: Decimal
    open: Decimal
    credit: Decimal
    invoices: list[OpenInvoice]
    pauses: list[PaymentPauseView]
    iban: str
    bic: str
    card: CardView | None
    refundable: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class AllocatedPart:
    """So much of an entry went to an invoice, or came to it from an entry: which, and its number where it has one."""

    entry_id: int
    kind: str
    number: str
    document_id: int | None
    on: date
    amount: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class EntryView:
    """One entry of an account: its amount above 0 where it is owed and below where it is paid, and the balance after
    it. `parts` are where it went, or, of an invoice, what closed it; the rest, `left`, is on account, or open.
    `went_back` is of a payment that was returned; `names` the invoice that it names."""

    id: int
    kind: str
    on: date
    amount: Decimal
    balance: Decimal
    number: str
    document_id: int | None
    names: str
    names_id: int | None
    paid_by: str
    value_on: date | None
    reference: str
    reason: str
    made_by: str
    parts: list[AllocatedPart]
    left: Decimal
    went_back: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Owed:
    """What a consumer owes by invoices of which something is open: how much, of how many, of how many past the day
    they were due; its credit on account; and whether its calls are paused for it."""

    total: Decimal
    invoices: int
    past_due: int
    credit: Decimal
    paused: bool


def one(ctx: Context, consumer_id: int) -> AccountView:
    """One consumer's account. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return _view(session, ctx, consumer_id)


def own(ctx: Context) -> AccountView:
    """The signed-in consumer's account."""
    with ctx.reading() as session:
        return _view(session, ctx, ctx.actor.consumer_to("see money"))


def entries(ctx: Context, consumer_id: int, wanted: PageQuery) -> Page[EntryView]:
    """A page of an account's entries. Orders: newest, oldest. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        if session.get(Consumer, consumer_id) is None:
            raise NotFound("there is no such consumer", str(consumer_id))
        return _entries(session, consumer_id, wanted)


def own_entries(ctx: Context, wanted: PageQuery) -> Page[EntryView]:
    """A page of the signed-in consumer's entries, without who of the provider's people made them."""
    with ctx.reading() as session:
        found = _entries(session, ctx.actor.consumer_to("see money"), wanted)
        return replace(found, rows=[replace(row, made_by="") for row in found.rows])


def owed(session: Session, consumer_id: int, today: date) -> Owed:
    """What a consumer owes on a day, also by invoices of others that were merged into it."""
    invoices = open_items.invoices(session, consumer_id)
    credit = sum((each.left or ZERO for each in open_items.credits(session, consumer_id)), ZERO)
    return Owed(
        total=sum((i.open_amount for i in invoices), ZERO),
        invoices=len(invoices),
        past_due=sum(1 for i in invoices if i.due_on is not None and i.due_on < today),
        credit=credit,
        paused=payment_pauses.running(session, consumer_id) is not None,
    )


def closing(session: Session, invoice_id: int) -> list[AllocatedPart]:
    """What closed an invoice, or came open of it again, in order."""
    return _closing(session, [invoice_id]).get(invoice_id, [])


def _view(session: Session, ctx: Context, consumer_id: int) -> AccountView:
    consumer = session.get(Consumer, consumer_id)
    if consumer is None:
        raise NotFound("there is no such consumer", str(consumer_id))
    provider, today = provider_of(session), local_day(ctx.now_us, zone_of(session))
    found = open_items.invoices(session, consumer_id)
    reminded = reminding.of_invoices(session, [i.id for i in found])
    amount = sum((i.open_amount for i in found), ZERO)
    credit = sum((each.left or ZERO for each in open_items.credits(session, consumer_id)), ZERO)
    invoices = [_open_invoice(i, today, reminded.get(i.id, [])) for i in found]
    return AccountView(
        consumer_id=consumer_id,
        consumer=consumer.name,
        currency=provider.currency,
        balance=amount - credit,
        open=amount,
        credit=credit,
        invoices=sorted(invoices, key=lambda i: (i.due_on, i.number)),
        pauses=payment_pauses.of_consumer(session, merged.with_merged(session, consumer_id)),
        iban=provider.iban,
        bic=provider.bic,
        card=cards.view(session, ctx, consumer_id),
        refundable=min(credit, refunding.refundable(session, consumer_id)),
    )


def _open_invoice(i: Invoice, today: date, reminded: list[ReminderView]) -> OpenInvoice:
    assert i.due_on is not None
    return OpenInvoice(
        id=i.id,
        number=i.number or "",
        period_start=i.period_start,
        due_on=i.due_on,
        total=i.total,
        open=i.open_amount,
        state=i.state,
        age=ages.age_of(i.due_on, today),
        reminders=reminded,
    )


def _entries(session: Session, consumer_id: int, wanted: PageQuery) -> Page[EntryView]:
    signed = case((AccountEntry.kind.in_(ADDS), AccountEntry.amount), else_=-AccountEntry.amount)
    whose = AccountEntry.consumer_id.in_(merged.with_merged(session, consumer_id))
    balances = select(
        AccountEntry.id, signed.label("signed"), func.sum(signed).over(order_by=AccountEntry.id).label("balance")
    ).where(whose)
    after = balances.subquery()
    query = select(AccountEntry, after.c.signed, after.c.balance).join(after, after.c.id == AccountEntry.id)
    orders = {"newest": -AccountEntry.id, "oldest": AccountEntry.id}
    found = page(session, query, AccountEntry.id, orders, wanted)
    shown = [entry for entry, *_ in found.rows]
    went, came = (
        _went(session, [e.id for e in shown]),
        _closing(session, [e.invoice_id for e in shown if _is_invoice(e)]),
    )
    back = set(
        session.scalars(select(AccountEntry.returned_id).where(AccountEntry.returned_id.in_([e.id for e in shown])))
    )
    documents = _numbers(session, shown)
    rows = [
        _entry(entry, amount, balance, _net(came, entry) if _is_invoice(entry) else went.get(entry.id, []))
        for entry, amount, balance in found.rows
    ]
    rows = [
        replace(
            row,
            number=documents.get(entry.document_id or 0, ""),
            names="" if _is_invoice(entry) else documents.get(entry.invoice_id or 0, ""),
            went_back=entry.id in back,
        )
        for row, entry in zip(rows, shown, strict=True)
    ]
    return Page(rows, found.next, found.total)


def _entry(entry: AccountEntry, amount: Decimal, balance: Decimal, parts: list[AllocatedPart]) -> EntryView:
    left = entry.left or ZERO
    if _is_invoice(entry) and entry.invoice is not None:
        left = entry.invoice.open_amount
    return EntryView(
        id=entry.id,
        kind=entry.kind,
        on=entry.on,
        amount=amount,
        balance=balance,
        number="",
        document_id=entry.document_id,
        names="",
        names_id=None if _is_invoice(entry) else entry.invoice_id,
        paid_by=entry.paid_by,
        value_on=entry.value_on,
        reference=entry.reference,
        reason=entry.reason,
        made_by=entry.made_by,
        parts=parts,
        left=left,
        went_back=False,
    )


def _net(came: dict[int | None, list[AllocatedPart]], invoice: AccountEntry) -> list[AllocatedPart]:
    """What closes an invoice now, by entry: what came open again is left out."""
    found: dict[int, AllocatedPart] = {}
    for part in came.get(invoice.invoice_id, []):
        before = found.get(part.entry_id)
        found[part.entry_id] = part if before is None else replace(before, amount=before.amount + part.amount)
    return [part for part in found.values() if part.amount]


def _is_invoice(entry: AccountEntry) -> bool:
    return entry.kind == "invoice"


def _numbers(session: Session, of: Iterable[AccountEntry]) -> dict[int, str]:
    ids = {each for entry in of for each in (entry.document_id, entry.invoice_id) if each is not None}
    query = select(MoneyDocument.id, MoneyDocument.number).where(MoneyDocument.id.in_(ids))
    return {identifier: number or "" for identifier, number in session.execute(query)}


def _went(session: Session, entry_ids: Sequence[int]) -> dict[int, list[AllocatedPart]]:
    """Where entries went, by entry, as it stands now: what came back is left out."""
    query = (
        select(
            Allocation.entry_id,
            Allocation.invoice_id,
            Invoice.number,
            func.max(Allocation.on),
            func.sum(Allocation.amount),
        )
        .outerjoin(Invoice, Invoice.id == Allocation.invoice_id)
        .where(Allocation.entry_id.in_(entry_ids))
        .group_by(Allocation.entry_id, Allocation.invoice_id, Invoice.number)
        .order_by(func.min(Allocation.id))
    )
    found: dict[int, list[AllocatedPart]] = {}
    for entry_id, invoice_id, number, on, amount in session.execute(query):
        if amount:
            kind = "refund" if invoice_id is None else "invoice"
            part = AllocatedPart(
                entry_id=entry_id, kind=kind, number=number or "", document_id=invoice_id, on=on, amount=amount
            )
            found.setdefault(entry_id, []).append(part)
    return found


def _closing(session: Session, invoice_ids: Sequence[int | None]) -> dict[int | None, list[AllocatedPart]]:
    """What closed invoices, by invoice; what came open again is below 0."""
    query = (
        select(Allocation, AccountEntry.kind, MoneyDocument.id, MoneyDocument.number)
        .join(AccountEntry, AccountEntry.id == Allocation.entry_id)
        .outerjoin(MoneyDocument, MoneyDocument.id == AccountEntry.document_id)
        .where(Allocation.invoice_id.in_(invoice_ids))
        .order_by(Allocation.id)
    )
    found: dict[int | None, list[AllocatedPart]] = {}
    for each, kind, document_id, number in session.execute(query):
        part = AllocatedPart(
            entry_id=each.entry_id,
            kind=kind,
            number=number or "",
            document_id=document_id,
            on=each.on,
            amount=each.amount,
        )
        found.setdefault(each.invoice_id, []).append(part)
    return found
