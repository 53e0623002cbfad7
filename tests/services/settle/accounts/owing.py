"""Consumers that owe something, and what they pay, as tests make it."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal

from sqlalchemy import select

from calm_tariff.core.billing.accounts import account as rules
from calm_tariff.core.billing.accounts.account import (
    Account,
    Credited,
    Entry,
    Invoiced,
    Paid,
    Refunded,
    Returned,
    WrittenOff,
)
from calm_tariff.core.billing.accounts.payments import Money
from calm_tariff.core.periods import instant_of, local_day, zone
from calm_tariff.services.settle.accounts import ledger, payments
from calm_tariff.services.settle.accounts.ledger import AccountView, EntryView
from calm_tariff.services.settle.documents import invoices
from calm_tariff.services.settle.documents.invoices import InvoiceView
from calm_tariff.store.admit import merged
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.settle.accounts import AccountEntry, Allocation
from calm_tariff.store.settle.money_documents import Invoice
from tests.office import Office


def whose(office: Office, n: int = 0) -> int:
    return office.consumers[n].member.own_consumer


def today(office: Office) -> date:
    return local_day(instant_of(office.clock.now), zone("Europe/Lisbon"))


def pay(office: Office, amount: str | Decimal, invoice: int | None = None, n: int = 0, key: str | None = None) -> int:
    """A transfer that comes in today; the entry it is."""
    money = Money(amount=Decimal(amount), value_on=today(office), reference="our transfer")
    return payments.receive(office.finance, whose(office, n), money, invoice, key).id


def account(office: Office, n: int = 0) -> AccountView:
    return ledger.one(office.finance, whose(office, n))


def entries(office: Office, n: int = 0) -> list[EntryView]:
    """An account's entries, the oldest first."""
    return ledger.entries(office.finance, whose(office, n), PageQuery(sort="oldest", rows=1000)).rows


def again(office: Office, of: InvoiceView) -> InvoiceView:
    return invoices.one(office.finance, of.summary.id)


def as_core(office: Office, consumer: int) -> Account:
    """The same account by the rule alone, from the entries as they are stored."""
    with office.ctx.transaction() as session:
        theirs = AccountEntry.consumer_id.in_(merged.with_merged(session, consumer))
        stored = session.scalars(select(AccountEntry).where(theirs).order_by(AccountEntry.id)).all()
        places = {each.id: place for place, each in enumerate(stored)}
        return rules.settled([_entry(each, places) for each in stored], today(office), "EUR")


def _entry(of: AccountEntry, places: dict[int, int]) -> Entry:
    number = of.invoice.number or "" if of.invoice is not None else None
    if of.kind == "invoice":
        assert of.invoice is not None and of.invoice.due_on is not None
        return Invoiced(id=number or "", on=of.on, due=of.invoice.due_on, amount=of.amount)
    if of.kind == "credit note":
        return Credited(on=of.on, amount=of.amount, for_=number or "")
    if of.kind == "write-off":
        return WrittenOff(on=of.on, for_=number or "")
    if of.kind == "refund":
        return Refunded(on=of.on, amount=of.amount)
    if of.kind == "returned payment":
        return Returned(on=of.on, of=places[of.returned_id or 0])
    return Paid(on=of.on, amount=of.amount, for_=number)


def agrees(office: Office, consumer: int) -> Account:
    """See that an account as it is kept, and as it is shown, is what the rule makes of its entries."""
    rule = as_core(office, consumer)
    with office.ctx.transaction() as session:
        all_of = merged.with_merged(session, consumer)
        issued = select(Invoice).where(Invoice.consumer_id.in_(all_of), Invoice.number.is_not(None), Invoice.total > 0)
        kept = {i.number: (i.open_amount, i.state) for i in session.scalars(issued)}
        credit = sum(
            (e.left for e in session.scalars(select(AccountEntry)) if e.left and e.consumer_id in all_of), Decimal(0)
        )
        moved = [(a.entry_id, a.amount) for a in session.scalars(select(Allocation))]
    assert kept == {i.id: (i.open, i.state) for i in rule.invoices}
    assert credit == rule.credit
    assert sum(amount for _, amount in moved) >= 0
    shown = ledger.one(office.finance, consumer)
    assert (shown.balance, shown.credit) == (rule.balance, rule.credit)
    assert {i.number: i.open for i in shown.invoices} == {i.id: i.open for i in rule.invoices if i.open}
    rows = ledger.entries(office.finance, consumer, PageQuery(sort="oldest", rows=1000)).rows
    running = Decimal(0)
    for row in rows:
        running += row.amount
        assert row.balance == running
    assert running == rule.balance
    return rule


def at(office: Office, *when: int) -> None:
    """Move the clock to nine in the morning of a day."""
    office.clock.now = datetime(*when, 9, tzinfo=office.clock.now.tzinfo)  # type: ignore[arg-type]
