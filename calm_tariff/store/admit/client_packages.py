"""Generated clients, kept by the document they are made of."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import String
from sqlalchemy.dialects.mysql import LONGBLOB
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Long, Name, Prose, Word


class ClientPackage(Base):
    """A client in a language, of a document and of what is said beside it (`facts`, as JSON). `digest` is of all of
    these. It is ready where it has content, failed where `why` says so, and being made otherwise."""

    __tablename__ = "client_package"
    digest: Mapped[str] = mapped_column(String(64), primary_key=True)
    language: Mapped[Word]
    name: Mapped[Name]
    document: Mapped[Long] = mapped_column(deferred=True)
    facts: Mapped[Prose]
    asked_at: Mapped[datetime] = mapped_column(index=True)
    why: Mapped[Prose] = mapped_column(default="")
    ready: Mapped[bool] = mapped_column(default=False)
    content: Mapped[bytes | None] = mapped_column(LONGBLOB, deferred=True)
