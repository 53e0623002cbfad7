"""The processes that run."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Word


class Instance(Base):
    """A running process by its name and what it last reported of itself."""

    __tablename__ = "instance"
    name: Mapped[Word] = mapped_column(primary_key=True)
    kind: Mapped[Word]
    started_at: Mapped[datetime]
    seen_at: Mapped[datetime] = mapped_column(index=True)
    report: Mapped[dict[str, Any]]
