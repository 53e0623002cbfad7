"""Charge runs, documents of money and their lines."""

from __future__ import annotations

from datetime import date, datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import JSON, BigInteger, Computed, ForeignKey, Numeric, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.columns import Base, Id, LongJson, Money, Name, Prose, Word


class ChargeRun(Base):
    """One turning of a period's usage into draft invoices (`kind` "draft"), or issuing of those (`kind` "issue").
    States: core.lifecycles.CHARGE_RUN. `planned` are the ids of consumers, or of drafts, of which so many are `done`.
    `invoices` came of it, of together `total`; `left_alone` were issued already; `refused` says which were not issued
    and why. `late_of` are the periods of which something has to be charged late.
    A period has one at a time that is `going`."""

    __tablename__ = "charge_run"
    id: Mapped[Id]
    kind: Mapped[Word]
    state: Mapped[Word]
    period_start: Mapped[date]
    period_end: Mapped[date]
    started_at: Mapped[datetime]
    started_by: Mapped[Name]
    identity: Mapped[Name]
    planned: Mapped[LongJson]
    late_of: Mapped[list[Any]]
    done: Mapped[int] = mapped_column(default=0)
    invoices: Mapped[int] = mapped_column(default=0)
    total: Mapped[Money] = mapped_column(default=Decimal(0))
    left_alone: Mapped[int] = mapped_column(default=0)
    nothing_due: Mapped[int] = mapped_column(default=0)
    refused: Mapped[list[Any]] = mapped_column(default=list)
    ended_at: Mapped[datetime | None]
    going: Mapped[date | None] = mapped_column(
        Computed("if(state = 'running', period_start, null)", persisted=True), unique=True
    )


class MoneyDocument(Base):
    """An invoice or a credit note (`kind`). Once issued, it is never updated but for its state and what is open of it.
    A draft has no number. `parties` are who issued it to whom, as they were known then. `invoiced_period` is there of
    invoices alone: a consumer has one for each period."""

    __tablename__ = "money_document"
    __table_args__ = (UniqueConstraint("consumer_id", "invoiced_period"),)
    id: Mapped[Id]
    kind: Mapped[Word]
    number: Mapped[str | None] = mapped_column(String(30), unique=True)
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"))
    period_start: Mapped[date] = mapped_column(index=True)
    period_end: Mapped[date]
    invoiced_period: Mapped[date | None] = mapped_column(
        Computed("if(kind = 'invoice', period_start, null)", persisted=True)
    )
    currency: Mapped[str] = mapped_column(String(3))
    subtotal: Mapped[Money]
    tax: Mapped[Money]
    total: Mapped[Money]
    state: Mapped[Word]
    created_at: Mapped[datetime]
    issued_at: Mapped[datetime | None]
    parties: Mapped[dict[str, Any] | None] = mapped_column(JSON(none_as_null=True))
    consumer: Mapped[Consumer] = relationship(lazy="joined")
    lines: Mapped[list[MoneyLine]] = relationship(
        back_populates="document", order_by="MoneyLine.place", cascade="all, delete-orphan"
    )
    tax_groups: Mapped[list[DocumentTax]] = relationship(order_by="DocumentTax.place", cascade="all, delete-orphan")
    __mapper_args__ = {"polymorphic_on": "kind"}


class Invoice(MoneyDocument):
    """A consumer's charges for one period. States: core.lifecycles.INVOICE. `evidence` is the rating case its own lines
    can be computed from again, `late_cases` are those of its late lines, by the id of the invoice of the period they
    belong to. How it is paid is what its consumer had said when it was issued. `open_amount` is what is still to be
    paid of it by its account (store.settle.accounts), nothing before it is issued."""

    run_id: Mapped[int] = mapped_column(ForeignKey("charge_run.id"), nullable=True)
    evidence: Mapped[dict[str, Any]] = mapped_column(JSON, nullable=True)
    late_cases: Mapped[dict[str, Any]] = mapped_column(JSON, nullable=True, default=dict)
    open_amount: Mapped[Money] = mapped_column(nullable=True, index=True, default=Decimal(0))
    due_on: Mapped[date | None]
    payment_method: Mapped[str | None] = mapped_column(String(40))
    order_number: Mapped[Word] = mapped_column(default="", nullable=True)
    review: Mapped[DraftReview | None] = relationship(cascade="all, delete-orphan", lazy="select")
    __mapper_args__ = {"polymorphic_identity": "invoice"}


class DraftReview(Base):
    """What somebody who reviews a draft looks at first: what of it is out of the ordinary
    (core.billing.documents.review), and how much. `last_month` is the subtotal of its consumer's invoice of the month
    before. One that is held back is not issued."""

    __tablename__ = "draft_review"
    document_id: Mapped[int] = mapped_column(ForeignKey("money_document.id"), primary_key=True)
    weight: Mapped[int] = mapped_column(index=True)
    findings: Mapped[list[Any]]
    last_month: Mapped[Money | None]
    held_by: Mapped[Name] = mapped_column(default="")
    held_why: Mapped[Prose] = mapped_column(default="")
    held_at: Mapped[datetime | None]


class CreditNote(MoneyDocument):
    """What of an issued invoice is taken back, and why. Its amounts are above 0 where the invoice's are. Where it is
    `chargeable_again`, what it takes back counts as not charged: late lines are reckoned from there."""

    corrects_id: Mapped[int] = mapped_column(ForeignKey("money_document.id"), nullable=True, index=True)
    reason: Mapped[Prose] = mapped_column(nullable=True)
    chargeable_again: Mapped[bool] = mapped_column(nullable=True)
    corrects: Mapped[Invoice] = relationship(remote_side="MoneyDocument.id", foreign_keys=[corrects_id])
    __mapper_args__ = {"polymorphic_identity": "credit note"}


class MoneyLine(Base):
    """One rounded figure of a document, with how it is taxed. `sort` says where it comes from
    (core.billing.documents.totals), `belongs_to` which period by its first day.

    What is charged of usage has the segment it comes from, its exact slices, and which it is of those with the same
    segment, kind and meter (`nth`). Of a late line, `before` is what was charged of it till then. Of a usage line,
    `by_day` is what it opens into, frozen: the local days with their units. An adjustment has `words` instead. A late
    or credited line has its `origin`: the line that it corrects, where there is one."""

    __tablename__ = "money_line"
    __table_args__ = (UniqueConstraint("document_id", "place"),)
    id: Mapped[Id]
    document_id: Mapped[int] = mapped_column(ForeignKey("money_document.id"))
    place: Mapped[int]
    sort: Mapped[Word]
    belongs_to: Mapped[date] = mapped_column(index=True)
    kind: Mapped[Word]
    nth: Mapped[int] = mapped_column(default=0)
    amount: Mapped[Money]
    before: Mapped[Money | None]
    treatment: Mapped[Word]
    percent: Mapped[Decimal] = mapped_column(Numeric(7, 4))
    words: Mapped[Name] = mapped_column(default="")
    origin_id: Mapped[int | None] = mapped_column(ForeignKey("money_line.id"), index=True)
    adjustment_id: Mapped[int | None] = mapped_column(ForeignKey("adjustment.id"), index=True)
    segment: Mapped[int | None]
    subscription_id: Mapped[int | None] = mapped_column(ForeignKey("subscription.id"))
    revision_id: Mapped[int | None] = mapped_column(ForeignKey("plan_revision.id"))
    stay_id: Mapped[int | None] = mapped_column(BigInteger)
    segment_start: Mapped[datetime | None]
    segment_end: Mapped[datetime | None]
    meter_id: Mapped[int | None] = mapped_column(ForeignKey("meter.id"))
    quantity: Mapped[Decimal | None] = mapped_column(Numeric(30, 6))
    included: Mapped[Decimal | None] = mapped_column(Numeric(30, 6))
    priced: Mapped[Decimal | None] = mapped_column(Numeric(30, 6))
    days: Mapped[int] = mapped_column(default=0)
    slices: Mapped[list[Any]] = mapped_column(default=list)
    by_day: Mapped[list[Any] | None]
    document: Mapped[MoneyDocument] = relationship(back_populates="lines")
    origin: Mapped[MoneyLine | None] = relationship(remote_side="MoneyLine.id")


class DocumentTax(Base):
    """A tax group of a document: the lines of one treatment and percent, and the tax on their sum."""

    __tablename__ = "document_tax"
    document_id: Mapped[int] = mapped_column(ForeignKey("money_document.id"), primary_key=True)
    place: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    treatment: Mapped[Word]
    percent: Mapped[Decimal] = mapped_column(Numeric(7, 4))
    base: Mapped[Money]
    tax: Mapped[Money]


class Adjustment(Base):
    """A line that a person adds to a consumer's invoice of a period, positive or negative, and why. States:
    core.lifecycles.ADJUSTMENT."""

    __tablename__ = "adjustment"
    id: Mapped[Id]
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"))
    period_start: Mapped[date] = mapped_column(index=True)
    amount: Mapped[Money]
    treatment: Mapped[Word]
    words: Mapped[Name]
    reason: Mapped[Prose]
    state: Mapped[Word]
    made_by: Mapped[Name]
    made_by_identity: Mapped[Name]
    made_at: Mapped[datetime]
    agreed_by: Mapped[Name] = mapped_column(default="")
    agreed_at: Mapped[datetime | None]
    consumer: Mapped[Consumer] = relationship(lazy="joined")


class NumberSeries(Base):
    """The last number given of one kind of document in one calendar year."""

    __tablename__ = "number_series"
    kind: Mapped[Word] = mapped_column(primary_key=True)
    year: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    last: Mapped[int]
