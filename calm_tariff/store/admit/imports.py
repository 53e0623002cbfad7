"""Files that consumers and what is theirs are brought in from."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, String
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Id, Name, Prose, Word


class Import(Base):
    """A file of one kind of things (core.importing), brought in row by row by whoever `begun_by` is. `stage`: checking,
    checked, running, stopped or done. With `letters`, whoever gets an account is written to."""

    __tablename__ = "import"
    id: Mapped[Id]
    kind: Mapped[Word]
    name: Mapped[Name]
    stage: Mapped[Word]
    letters: Mapped[bool] = mapped_column(default=True)
    begun_at: Mapped[datetime]
    begun_by: Mapped[Name]
    identity: Mapped[str] = mapped_column(String(60))
    touched_at: Mapped[datetime]


class ImportRow(Base):
    """A row of such a file, by the line it begins at. `state`: waiting, good (it can be brought in), wrong, made, or
    refused when it was to be made; `said` says why, or what came of it. `about` is what it is about, for people."""

    __tablename__ = "import_row"
    __table_args__ = (Index("ix_import_row_state", "import_id", "state", "id"),)
    id: Mapped[Id]
    import_id: Mapped[int] = mapped_column(ForeignKey("import.id"))
    line: Mapped[int]
    cells: Mapped[dict[str, Any]]
    about: Mapped[Name]
    state: Mapped[Word]
    said: Mapped[Prose]
    consumer_id: Mapped[int | None] = mapped_column(ForeignKey("consumer.id"), index=True)
