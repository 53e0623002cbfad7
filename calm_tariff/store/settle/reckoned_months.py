"""What months came to when they were last reckoned, for whoever looks at them before they are invoiced."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base


class ReckonedMonth(Base):
    """Of a month, as of `reckoned_at`: the `charges` of consumers that have no issued invoice, before tax, by their
    ids; and the units that arrived `late` for issued ones, as [invoice, meter, units]. It is looked at and never
    billed: drafts are computed from usage itself."""

    __tablename__ = "reckoned_month"
    period_start: Mapped[date] = mapped_column(primary_key=True)
    reckoned_at: Mapped[datetime]
    charges: Mapped[dict[str, Any]]
    late: Mapped[list[Any]]
