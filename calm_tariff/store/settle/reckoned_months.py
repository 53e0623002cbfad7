"""What months came to when they were last reckoned, for whoever looks at them before they are invoiced."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base


class ReckonedMonth(Base):
    """The charge of every consumer with a stay in a month, before tax, by the consumer's id, as of `reckoned_at`. It is
    looked at and never billed: drafts are computed from usage itself."""

    __tablename__ = "reckoned_month"
    period_start: Mapped[date] = mapped_column(primary_key=True)
    reckoned_at: Mapped[datetime]
    charges: Mapped[dict[str, Any]]
