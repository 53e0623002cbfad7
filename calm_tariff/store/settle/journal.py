"""The bookkeeper's journal: accounts of the ledger, what was posted there, and the months that are closed."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import JSON, ForeignKey, Numeric, String, UniqueConstraint
from sqlalchemy.dialects.mysql import LONGBLOB
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Hash, Id, Money, Name, Word


class Ledger(Base):
    """An account of the ledger (core.billing.books.chart), and what the bookkeeper calls it; "" is as that of its role.
    `stands_for` is its role and what it is told apart by, and the one way to find it. A product's and a tax rule's are
    there once something was posted to them, or somebody named them."""

    __tablename__ = "ledger"
    id: Mapped[Id]
    stands_for: Mapped[str] = mapped_column(String(80), unique=True)
    role: Mapped[Word]
    product_id: Mapped[int | None] = mapped_column(ForeignKey("product.id"))
    treatment: Mapped[Word] = mapped_column(default="")
    percent: Mapped[Decimal | None] = mapped_column(Numeric(7, 4))
    name: Mapped[str] = mapped_column(String(120), default="")


class Posting(Base):
    """An amount that an entry of a consumer's account posts to an account of the ledger: above 0 is debit. Those of an
    entry sum to 0. Never updated."""

    __tablename__ = "posting"
    __table_args__ = (UniqueConstraint("entry_id", "ledger_id"),)
    id: Mapped[Id]
    entry_id: Mapped[int] = mapped_column(ForeignKey("account_entry.id"))
    ledger_id: Mapped[int] = mapped_column(ForeignKey("ledger.id"), index=True)
    amount: Mapped[Money]


class JournalMonth(Base):
    """A month in which something was booked, by its first day. Once it is closed, nothing more is booked in it, and
    what it held then is kept: its entries as text and as CSV (each packed with zlib), the digest (SHA-256) of the text
    as it is read, what each account was called, by its id, and how many entries of together which debit."""

    __tablename__ = "journal_month"
    start: Mapped[date] = mapped_column(primary_key=True)
    closed_at: Mapped[datetime | None]
    closed_by: Mapped[Name] = mapped_column(default="")
    entries: Mapped[int] = mapped_column(default=0)
    debit: Mapped[Money] = mapped_column(default=Decimal(0))
    names: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict)
    digest: Mapped[Hash] = mapped_column(default="")
    text: Mapped[bytes | None] = mapped_column(LONGBLOB)
    rows: Mapped[bytes | None] = mapped_column(LONGBLOB)
