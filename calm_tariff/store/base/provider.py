"""The provider."""

from __future__ import annotations

from decimal import Decimal

from sqlalchemy import Numeric, String
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Id, Name, Word


class Provider(Base):
    """The one organisation whose APIs are sold."""

    __tablename__ = "provider"
    id: Mapped[Id]
    name: Mapped[Name]
    time_zone: Mapped[Word]
    currency: Mapped[str] = mapped_column(String(3))
    tax_percent: Mapped[Decimal] = mapped_column(Numeric(7, 4))
    mail_from: Mapped[Name]
    payment_days: Mapped[int] = mapped_column(default=14)
