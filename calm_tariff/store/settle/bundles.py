"""A period's documents in one archive, as it is put together."""

from __future__ import annotations

from datetime import date, datetime

from sqlalchemy import BigInteger, ForeignKey
from sqlalchemy.dialects.mysql import LONGBLOB
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Id, Name, Word


class Bundle(Base):
    """An archive (ZIP) of what was issued for a period. States: core.lifecycles.BUNDLE. Of `planned` documents so many
    are `done`; `size` is in bytes."""

    __tablename__ = "bundle"
    id: Mapped[Id]
    period_start: Mapped[date] = mapped_column(index=True)
    state: Mapped[Word] = mapped_column(index=True)
    asked_by: Mapped[Name]
    asked_at: Mapped[datetime]
    planned: Mapped[int]
    done: Mapped[int] = mapped_column(default=0)
    size: Mapped[int] = mapped_column(BigInteger, default=0)
    ended_at: Mapped[datetime | None]


class BundlePart(Base):
    """A part of an archive, in order: no row is too long for the database to take."""

    __tablename__ = "bundle_part"
    bundle_id: Mapped[int] = mapped_column(ForeignKey("bundle.id"), primary_key=True)
    place: Mapped[int] = mapped_column(primary_key=True, autoincrement=False)
    content: Mapped[bytes] = mapped_column(LONGBLOB)
