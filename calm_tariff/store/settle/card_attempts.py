"""What was asked of consumers' cards: money for invoices, credit that goes back, and what their owners dispute."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import BigInteger, Computed, ForeignKey, String
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.admit.cards import PaymentCard
from calm_tariff.store.base.columns import Base, Id, Money, Name, Prose, Word
from calm_tariff.store.settle.money_documents import Invoice


class PaymentAttempt(Base):
    """What is open of an invoice is taken from a card. States: core.lifecycles.PAYMENT_ATTEMPT; an invoice has one at a
    time that is `going`. The processor knows it by `key`, however often it is asked, and what came of it by `charge`.
    `failure` is why it failed (core.billing.accounts.cards); `entry_id` is the payment that was booked."""

    __tablename__ = "payment_attempt"
    id: Mapped[Id]
    invoice_id: Mapped[int] = mapped_column(ForeignKey("money_document.id"), index=True)
    card_id: Mapped[int] = mapped_column(ForeignKey("payment_card.id"), index=True)
    key: Mapped[str] = mapped_column(String(40), unique=True)
    amount: Mapped[Money]
    state: Mapped[Word] = mapped_column(index=True)
    planned_by: Mapped[Name]
    planned_at: Mapped[datetime]
    tried_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    charge: Mapped[str | None] = mapped_column(String(200), unique=True)
    failure: Mapped[Word] = mapped_column(default="")
    entry_id: Mapped[int | None] = mapped_column(ForeignKey("account_entry.id"), unique=True)
    going: Mapped[int | None] = mapped_column(
        BigInteger, Computed("if(state in ('planned', 'tried'), invoice_id, null)", persisted=True), unique=True
    )
    invoice: Mapped[Invoice] = relationship()
    card: Mapped[PaymentCard] = relationship(lazy="joined")


class CardRefund(Base):
    """Credit on account that goes back to the card of a payment. States: core.lifecycles.CARD_REFUND. It is booked
    (`entry_id`) when it is asked for; where it fails, the money is booked as come back."""

    __tablename__ = "card_refund"
    id: Mapped[Id]
    attempt_id: Mapped[int] = mapped_column(ForeignKey("payment_attempt.id"), index=True)
    key: Mapped[str] = mapped_column(String(40), unique=True)
    amount: Mapped[Money]
    state: Mapped[Word]
    asked_by: Mapped[Name]
    asked_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    failure: Mapped[Word] = mapped_column(default="")
    entry_id: Mapped[int] = mapped_column(ForeignKey("account_entry.id"), unique=True)
    attempt: Mapped[PaymentAttempt] = relationship()


class Dispute(Base):
    """Whoever paid by card says to their bank that a payment was not right. States: core.lifecycles.DISPUTE. The
    processor knows it by `reference`. The payment went back with `entry_id`; where that is none, a person has to book
    what there is to book."""

    __tablename__ = "dispute"
    id: Mapped[Id]
    reference: Mapped[str] = mapped_column(String(200), unique=True)
    attempt_id: Mapped[int] = mapped_column(ForeignKey("payment_attempt.id"), index=True)
    amount: Mapped[Money]
    reason: Mapped[Prose]
    state: Mapped[Word] = mapped_column(index=True)
    opened_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    entry_id: Mapped[int | None] = mapped_column(ForeignKey("account_entry.id"), unique=True)
    attempt: Mapped[PaymentAttempt] = relationship()
