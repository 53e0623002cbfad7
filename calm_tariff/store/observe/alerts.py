"""What consumers want to be told of, and what they were."""

from __future__ import annotations

from datetime import datetime
from decimal import Decimal

from sqlalchemy import BigInteger, ForeignKey, Numeric, String
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Id, Micros, Name, Prose, Units


class Alert(Base):
    """One threshold: so many percent of an allowance of a subscription (by the name of its quota), or an amount of the
    month's charge before tax."""

    __tablename__ = "alert"
    id: Mapped[Id]
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), index=True)
    subscription_id: Mapped[int | None] = mapped_column(ForeignKey("subscription.id"))
    allowance: Mapped[str | None] = mapped_column(String(200))
    percent: Mapped[int | None]
    amount: Mapped[Decimal | None] = mapped_column(Numeric(24, 4))
    made_by_id: Mapped[int] = mapped_column(ForeignKey("member.id"))
    made_at: Mapped[datetime]


class AlertReached(Base):
    """That an alert's threshold was reached, once for each window of the allowance or month, and with which call, where
    that is known. `value` is what the count stood at when it was seen."""

    __tablename__ = "alert_reached"
    alert_id: Mapped[int] = mapped_column(ForeignKey("alert.id"), primary_key=True, autoincrement=False)
    window_us: Mapped[Micros] = mapped_column(primary_key=True, autoincrement=False)
    seen_at: Mapped[datetime]
    call_id: Mapped[str | None] = mapped_column(String(26))
    value: Mapped[Units]


class AlertHook(Base):
    """Where a consumer has its alerts sent as signed webhooks (Standard Webhooks), and what they are signed with."""

    __tablename__ = "alert_hook"
    consumer_id: Mapped[int] = mapped_column(
        BigInteger, ForeignKey("consumer.id"), primary_key=True, autoincrement=False
    )
    url: Mapped[Name]
    sealed: Mapped[Prose]
    set_by: Mapped[Name]
    set_at: Mapped[datetime]


class AllowanceTold(Base):
    """That an allowance stood at so many percent in a window was told as an event: once."""

    __tablename__ = "allowance_told"
    subscription_id: Mapped[int] = mapped_column(ForeignKey("subscription.id"), primary_key=True, autoincrement=False)
    allowance: Mapped[str] = mapped_column(String(200), primary_key=True)
    window_us: Mapped[Micros] = mapped_column(primary_key=True, autoincrement=False)
    percent: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    at: Mapped[datetime] = mapped_column(index=True)
