"""What the bank says: statements that were brought in, and their entries, each once."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import ForeignKey, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.base.columns import Base, Hash, Id, Money, Name, Prose, Word


class BankStatement(Base):
    """A file that somebody brought in. Of its entries so many were `new`, so many `known` already; `unread` are those
    that could not be used, with where they stand and why."""

    __tablename__ = "bank_statement"
    id: Mapped[Id]
    name: Mapped[Name]
    form: Mapped[Word]
    iban: Mapped[Word]
    brought_by: Mapped[Name]
    brought_at: Mapped[datetime]
    new: Mapped[int]
    known: Mapped[int]
    unread: Mapped[list[Any]]


class BankEntry(Base):
    """An entry of a statement (core.billing.bank.statements), once however often it is brought in. States:
    core.lifecycles.BANK_ENTRY. What was decided about it by a person has their name and why; `digest` is of all that
    the bank said of it."""

    __tablename__ = "bank_entry"
    __table_args__ = (UniqueConstraint("own_iban", "reference"),)
    id: Mapped[Id]
    statement_id: Mapped[int] = mapped_column(ForeignKey("bank_statement.id"), index=True)
    own_iban: Mapped[Word]
    reference: Mapped[str] = mapped_column(String(140))
    booked_on: Mapped[date]
    value_on: Mapped[date]
    amount: Mapped[Money]
    name: Mapped[Name]
    iban: Mapped[Word]
    text: Mapped[Prose]
    creditor_reference: Mapped[Word]
    digest: Mapped[Hash]
    state: Mapped[Word] = mapped_column(index=True)
    decided_by: Mapped[Name] = mapped_column(default="")
    decided_at: Mapped[datetime | None]
    why: Mapped[Prose] = mapped_column(default="")
    statement: Mapped[BankStatement] = relationship(lazy="joined")
