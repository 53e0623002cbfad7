"""Charge runs, invoices and their lines."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import BigInteger, ForeignKey, Numeric, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.columns import Base, Id, Money, Name, Word


class ChargeRun(Base):
    """One turning of a period's usage into draft invoices."""

    __tablename__ = "charge_run"
    id: Mapped[Id]
    period_start: Mapped[date]
    period_end: Mapped[date]
    started_at: Mapped[datetime]
    started_by: Mapped[Name]
    invoices: Mapped[int]
    total: Mapped[Money]


class Invoice(Base):
    """A consumer's charges for one period. States: core.lifecycles.INVOICE. Once issued, never updated
    but for its state. A draft has no number. `evidence` is the rating case it can be computed from again. How it
    is paid is what its consumer had said when it was issued."""

    __tablename__ = "invoice"
    __table_args__ = (UniqueConstraint("consumer_id", "period_start"),)
    id: Mapped[Id]
    number: Mapped[str | None] = mapped_column(String(30), unique=True)
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"))
    run_id: Mapped[int] = mapped_column(ForeignKey("charge_run.id"))
    period_start: Mapped[date]
    period_end: Mapped[date]
    currency: Mapped[str] = mapped_column(String(3))
    tax_percent: Mapped[Decimal] = mapped_column(Numeric(7, 4))
    subtotal: Mapped[Money]
    tax: Mapped[Money]
    total: Mapped[Money]
    state: Mapped[Word]
    evidence: Mapped[dict[str, Any]]
    created_at: Mapped[datetime]
    issued_at: Mapped[datetime | None]
    due_on: Mapped[date | None]
    payment_method: Mapped[str | None] = mapped_column(String(40))
    order_number: Mapped[Word] = mapped_column(default="")
    consumer: Mapped[Consumer] = relationship(lazy="joined")
    lines: Mapped[list[InvoiceLine]] = relationship(
        back_populates="invoice", order_by="InvoiceLine.place", cascade="all, delete-orphan"
    )


class InvoiceLine(Base):
    """One rounded figure of an invoice, with its exact slices and the segment it comes from. Of a usage line,
    `by_day` is what it opens into, frozen: the local days with their units."""

    __tablename__ = "invoice_line"
    __table_args__ = (UniqueConstraint("invoice_id", "place"),)
    id: Mapped[Id]
    invoice_id: Mapped[int] = mapped_column(ForeignKey("invoice.id"))
    place: Mapped[int]
    segment: Mapped[int]
    subscription_id: Mapped[int] = mapped_column(ForeignKey("subscription.id"))
    revision_id: Mapped[int] = mapped_column(ForeignKey("plan_revision.id"))
    stay_id: Mapped[int | None] = mapped_column(BigInteger)
    segment_start: Mapped[datetime]
    segment_end: Mapped[datetime]
    kind: Mapped[Word]
    meter_id: Mapped[int | None] = mapped_column(ForeignKey("meter.id"))
    quantity: Mapped[Decimal | None] = mapped_column(Numeric(30, 6))
    included: Mapped[Decimal | None] = mapped_column(Numeric(30, 6))
    priced: Mapped[Decimal | None] = mapped_column(Numeric(30, 6))
    days: Mapped[int]
    amount: Mapped[Money]
    slices: Mapped[list[Any]]
    by_day: Mapped[list[Any] | None]
    invoice: Mapped[Invoice] = relationship(back_populates="lines")


class NumberSeries(Base):
    """The last number given of one kind of document in one calendar year."""

    __tablename__ = "number_series"
    kind: Mapped[Word] = mapped_column(primary_key=True)
    year: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    last: Mapped[int]
