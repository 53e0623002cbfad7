"""What consumers owe and are owed: the entries of their accounts, which of them closed which invoice, and what followed
where nothing did."""

from __future__ import annotations

from datetime import date, datetime

from sqlalchemy import ForeignKey, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.base.columns import Base, Id, Money, Name, Prose, Word
from calm_tariff.store.settle.bank import BankEntry
from calm_tariff.store.settle.money_documents import Invoice, MoneyDocument


class AccountEntry(Base):
    """One entry of a consumer's account (`kind`: core.billing.accounts.account); never updated but for `left`, which is
    what of a payment or a credit note is still credit on account. The amount is above 0, whichever way the kind counts;
    of a write-off, and of a payment that went back, it is what was open or came in.

    An invoice or a credit note is a `document`; `invoice` is the one that the entry is or names, `returned_id` the
    payment that went back. A payment or refund went by card or transfer (`paid_by`), on a day by the bank's books
    (`value_on`), with a `reference`; one that a statement told is of a bank entry."""

    __tablename__ = "account_entry"
    __table_args__ = (UniqueConstraint("document_id"), UniqueConstraint("returned_id"))
    id: Mapped[Id]
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), index=True)
    kind: Mapped[Word]
    on: Mapped[date] = mapped_column(index=True)
    at: Mapped[datetime]
    amount: Mapped[Money]
    left: Mapped[Money | None] = mapped_column(index=True)
    document_id: Mapped[int | None] = mapped_column(ForeignKey("money_document.id"))
    invoice_id: Mapped[int | None] = mapped_column(ForeignKey("money_document.id"), index=True)
    returned_id: Mapped[int | None] = mapped_column(ForeignKey("account_entry.id"))
    paid_by: Mapped[Word] = mapped_column(default="")
    value_on: Mapped[date | None]
    reference: Mapped[Name] = mapped_column(default="")
    bank_entry_id: Mapped[int | None] = mapped_column(ForeignKey("bank_entry.id"), index=True)
    reason: Mapped[Prose] = mapped_column(default="")
    made_by: Mapped[Name]
    bank_entry: Mapped[BankEntry | None] = relationship()
    document: Mapped[MoneyDocument | None] = relationship(foreign_keys=[document_id])
    invoice: Mapped[Invoice | None] = relationship(foreign_keys=[invoice_id])


class Allocation(Base):
    """So much of an entry, a payment, a credit note or a write-off, went to an invoice, or was paid out where that is
    none, because another entry (`by_id`), or itself, made it. Below 0: so much came back from there. Never updated."""

    __tablename__ = "allocation"
    id: Mapped[Id]
    entry_id: Mapped[int] = mapped_column(ForeignKey("account_entry.id"), index=True)
    invoice_id: Mapped[int | None] = mapped_column(ForeignKey("money_document.id"), index=True)
    by_id: Mapped[int | None] = mapped_column(ForeignKey("account_entry.id"), index=True)
    on: Mapped[date]
    amount: Mapped[Money]
    entry: Mapped[AccountEntry] = relationship(foreign_keys=[entry_id])


class WriteOff(Base):
    """What is open of an invoice is to be written off, and why. States: core.lifecycles.WRITE_OFF. `amount` was open
    when somebody asked for it; what is open once a second person has agreed is what is written off."""

    __tablename__ = "write_off"
    id: Mapped[Id]
    invoice_id: Mapped[int] = mapped_column(ForeignKey("money_document.id"), index=True)
    amount: Mapped[Money]
    reason: Mapped[Prose]
    state: Mapped[Word] = mapped_column(index=True)
    made_by: Mapped[Name]
    made_by_identity: Mapped[Name]
    made_at: Mapped[datetime]
    agreed_by: Mapped[Name] = mapped_column(default="")
    agreed_at: Mapped[datetime | None]
    invoice: Mapped[Invoice] = relationship()


class Reminder(Base):
    """An invoice was reminded of, so many days after it was due; `open_amount` was open then."""

    __tablename__ = "reminder"
    __table_args__ = (UniqueConstraint("invoice_id", "after_days"),)
    id: Mapped[Id]
    invoice_id: Mapped[int] = mapped_column(ForeignKey("money_document.id"))
    after_days: Mapped[int]
    sent_at: Mapped[datetime]
    open_amount: Mapped[Money]
