"""The books as they were looked through: when, what each sum came to, and what did not agree."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import JSON, BigInteger, ForeignKey, Index
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Id, Name, Prose, Units, Word


class BooksAudit(Base):
    """One looking through the books. States: core.lifecycles.BOOKS_AUDIT. `at` is the moment of which it tells; of
    `planned` checks so many are `done`. `proofs` holds of each check how many sums it compared, what they come to, and
    how many differ; `calls` of each period how many calls there are, by what became of them."""

    __tablename__ = "books_audit"
    id: Mapped[Id]
    state: Mapped[Word] = mapped_column(index=True)
    asked_by: Mapped[Name]
    asked_at: Mapped[datetime]
    at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    planned: Mapped[int]
    done: Mapped[int] = mapped_column(default=0)
    proofs: Mapped[list[Any]] = mapped_column(JSON, default=list)
    calls: Mapped[list[Any]] = mapped_column(JSON, default=list)


class BookSum(Base):
    """Units of one meter of one subscription in one period, by where they are (core.billing.books.proof), as the last
    audit found them."""

    __tablename__ = "book_sum"
    __table_args__ = (Index("ix_book_sum_period", "audit_id", "period_start"),)
    audit_id: Mapped[int] = mapped_column(ForeignKey("books_audit.id"), primary_key=True)
    period_start: Mapped[date] = mapped_column(primary_key=True)
    subscription_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    meter_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    recorded: Mapped[Units | None]
    charged: Mapped[Units]
    nothing_due: Mapped[Units]
    free: Mapped[Units]
    running: Mapped[Units]
    late: Mapped[Units]
    outside: Mapped[Units]
    agrees: Mapped[bool]


class BookDifference(Base):
    """Sums that an audit found to differ (core.billing.books.proof): what each table says, and, where it came of calls,
    the hours and calls it came of."""

    __tablename__ = "book_difference"
    id: Mapped[Id]
    audit_id: Mapped[int] = mapped_column(ForeignKey("books_audit.id"), index=True)
    check: Mapped[Word]
    what: Mapped[Prose]
    sums: Mapped[list[Any]]
    came_of: Mapped[list[Any]]
    period_start: Mapped[date | None]
    subscription_id: Mapped[int | None] = mapped_column(BigInteger)
    meter_id: Mapped[int | None] = mapped_column(BigInteger)
    consumer_id: Mapped[int | None] = mapped_column(BigInteger)
    document_id: Mapped[int | None] = mapped_column(BigInteger)
