"""What was new in API versions, as consumers are told."""

from __future__ import annotations

from datetime import date, datetime

from sqlalchemy import ForeignKey, Index
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.base.columns import Base, Id, Prose
from calm_tariff.store.compose.apis import ApiVersion


class ReleaseNote(Base):
    """What was new in a version on a day of the provider's, in Markdown; shown from that day on."""

    __tablename__ = "release_note"
    __table_args__ = (Index("ix_release_note_version", "api_version_id", "day"),)
    id: Mapped[Id]
    api_version_id: Mapped[int] = mapped_column(ForeignKey("api_version.id"))
    day: Mapped[date]
    text: Mapped[Prose]
    edition: Mapped[int] = mapped_column(default=1)
    created_at: Mapped[datetime]
    version: Mapped[ApiVersion] = relationship(lazy="joined")
