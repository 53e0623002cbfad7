"""Files of calls that other gateways counted, and the sources they name."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, ForeignKey, String, UniqueConstraint
from sqlalchemy.dialects.mysql import LONGBLOB
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.core.outside_calls import LONGEST_SOURCE
from calm_tariff.store.base.columns import Base, Id, Name, Prose, Word


class UsageFile(Base):
    """A file, or what was sent at once, brought in by whoever `brought_by` is. `stage`: core.outside_calls.Stage.

    Of its `rows`, so many were `usable` when they were checked, `known` by their source and id already, and `unusable`;
    since then so many were `recorded`, and so many said something else than what is recorded (`differing`). `tally` is
    what the usable ones come to by consumer and month; `layout` is how its rows are read; `sources` are those that they
    name, with what had recorded calls of each last when they were checked.
    """

    __tablename__ = "usage_file"
    id: Mapped[Id]
    name: Mapped[Name]
    stage: Mapped[Word]
    layout: Mapped[dict[str, Any]]
    sources: Mapped[dict[str, Any]] = mapped_column(default=dict)
    brought_by: Mapped[Name]
    identity: Mapped[str] = mapped_column(String(60))
    brought_at: Mapped[datetime]
    touched_at: Mapped[datetime]
    parts: Mapped[int] = mapped_column(default=0)
    parts_done: Mapped[int] = mapped_column(default=0)
    rows: Mapped[int] = mapped_column(default=0)
    usable: Mapped[int] = mapped_column(default=0)
    known: Mapped[int] = mapped_column(default=0)
    unusable: Mapped[int] = mapped_column(default=0)
    recorded: Mapped[int] = mapped_column(default=0)
    differing: Mapped[int] = mapped_column(default=0)
    tally: Mapped[list[Any]] = mapped_column(default=list)
    why: Mapped[Prose] = mapped_column(default="")


class UsageFilePart(Base):
    """So many rows of a file, packed, until it is done. `fresh` says that none of them was known when they were
    checked."""

    __tablename__ = "usage_file_part"
    file_id: Mapped[int] = mapped_column(ForeignKey("usage_file.id"), primary_key=True)
    nth: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    first: Mapped[int]
    packed: Mapped[bytes] = mapped_column(LONGBLOB)
    fresh: Mapped[bool] = mapped_column(default=False)


class UsageFileRow(Base):
    """A row of a file that cannot be used, by its line: what is wrong with it, and its text."""

    __tablename__ = "usage_file_row"
    __table_args__ = (UniqueConstraint("file_id", "line"),)
    id: Mapped[Id]
    file_id: Mapped[int] = mapped_column(ForeignKey("usage_file.id"))
    line: Mapped[int]
    said: Mapped[Prose]
    text: Mapped[Prose]


class UsageSource(Base):
    """A source that calls have come from. Whoever records some of its calls holds it, so that none is recorded twice;
    `file_id` is what recorded some last."""

    __tablename__ = "usage_source"
    name: Mapped[str] = mapped_column(String(LONGEST_SOURCE), primary_key=True)
    file_id: Mapped[int] = mapped_column(BigInteger)
    changed_at: Mapped[datetime]
