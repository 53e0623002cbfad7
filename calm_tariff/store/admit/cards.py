"""Cards that consumers pay by, as far as they are known here: a payment processor keeps them and gives a token."""

from __future__ import annotations

from datetime import date, datetime

from sqlalchemy import BigInteger, Computed, ForeignKey, String
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Id, Name, Word


class CardPage(Base):
    """A page of the payment processor's, at which somebody of a consumer's gives a card. `page` is what the processor
    knows it by. It is `over` once a card came of it, or none will."""

    __tablename__ = "card_page"
    id: Mapped[Id]
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), index=True)
    page: Mapped[str | None] = mapped_column(String(200), unique=True)
    begun_by: Mapped[Name]
    begun_at: Mapped[datetime]
    over_at: Mapped[datetime | None]


class PaymentCard(Base):
    """A card of a consumer's, by the processor's `token`: never its number. `ends_on` is the first day on which it is
    good no more. A consumer has one at a time that is not `ended`."""

    __tablename__ = "payment_card"
    id: Mapped[Id]
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), index=True)
    token: Mapped[Name]
    brand: Mapped[Word]
    last_four: Mapped[str] = mapped_column(String(4))
    ends_on: Mapped[date]
    added_by: Mapped[Name]
    added_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    current: Mapped[int | None] = mapped_column(
        BigInteger, Computed("if(ended_at is null, consumer_id, null)", persisted=True), unique=True
    )
