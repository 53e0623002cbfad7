"""Issued documents of money as files: written once, and the same for ever."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, UniqueConstraint
from sqlalchemy.dialects.mysql import LONGBLOB
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Hash, Id, Word


class DocumentFile(Base):
    """A document in one form (`form`: "pdf", "ubl"); `digest` is the SHA-256 of its content, by which it is known to be
    what was written at first."""

    __tablename__ = "document_file"
    __table_args__ = (UniqueConstraint("document_id", "form"),)
    id: Mapped[Id]
    document_id: Mapped[int] = mapped_column(ForeignKey("money_document.id"))
    form: Mapped[Word]
    content: Mapped[bytes] = mapped_column(LONGBLOB, deferred=True)
    digest: Mapped[Hash]
    made_at: Mapped[datetime]
