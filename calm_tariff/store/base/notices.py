"""What people were told."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import BigInteger, Index, String
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Id, Name, Prose, Word


class NoticeChoice(Base):
    """That somebody wants notices of a group (services.base.notices.GROUPS) by mail, or not. Without a choice, they
    come by mail."""

    __tablename__ = "notice_choice"
    audience: Mapped[Word] = mapped_column(primary_key=True)
    audience_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    group: Mapped[Word] = mapped_column(primary_key=True)
    by_mail: Mapped[bool]


class Notice(Base):
    """Something somebody was told: one of the provider's people or a consumer's member (`audience` person, member), by
    `kind`, in words, with where to look. `read_at` is when they did. Nobody sees it before `written_at`; what `cause`
    names may be undone until then, and the notice with it."""

    __tablename__ = "notice"
    __table_args__ = (Index("ix_notice_audience", "audience", "audience_id", "id"),)
    id: Mapped[Id]
    audience: Mapped[Word]
    audience_id: Mapped[int] = mapped_column(BigInteger)
    kind: Mapped[Word]
    subject: Mapped[Name]
    text: Mapped[Prose]
    link: Mapped[Name]
    written_at: Mapped[datetime]
    read_at: Mapped[datetime | None]
    cause: Mapped[str | None] = mapped_column(String(60), index=True)
