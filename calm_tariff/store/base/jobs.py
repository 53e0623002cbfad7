"""Work that is done later."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import Index, String, Text, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Id, Name, Word


class Job(Base):
    """Something to do, from `run_at` on, by whoever claims it first. There is one of a kind and `key`; `about` says to
    people what it is about, and `edition` rises each time it is asked for. One that was given up stays, with its last
    error."""

    __tablename__ = "job"
    __table_args__ = (UniqueConstraint("kind", "key"), Index("ix_job_due", "given_up_at", "run_at"))
    id: Mapped[Id]
    kind: Mapped[Word]
    key: Mapped[str | None] = mapped_column(String(100))
    about: Mapped[Name]
    arguments: Mapped[dict[str, Any]]
    written_at: Mapped[datetime]
    run_at: Mapped[datetime]
    attempts: Mapped[int] = mapped_column(default=0)
    edition: Mapped[int] = mapped_column(default=1)
    claimed_until: Mapped[datetime | None]
    last_error: Mapped[str | None] = mapped_column(Text)
    given_up_at: Mapped[datetime | None]
