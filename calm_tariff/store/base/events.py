"""What happened, for those outside who listen."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, Index
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Id, Name, Prose, Word


class Event(Base):
    """Something that happened: its type (core.events), what it is about, whose that is, in words, and what more there
    is to say of it. Ids rise in the order in which transactions were committed. `entry_id` is its entry of the record,
    where it is on it."""

    __tablename__ = "event"
    __table_args__ = (Index("ix_event_type", "type", "id"),)
    id: Mapped[Id]
    type: Mapped[Word]
    at: Mapped[datetime] = mapped_column(index=True)
    subject_kind: Mapped[Word]
    subject_id: Mapped[int] = mapped_column(BigInteger)
    subject: Mapped[Name]
    consumer_id: Mapped[int | None] = mapped_column(BigInteger)
    by: Mapped[Name]
    actor: Mapped[Name]
    said: Mapped[Prose]
    detail: Mapped[dict[str, Any]]
    entry_id: Mapped[int | None] = mapped_column(BigInteger)
