"""What people were told."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, Index, String, Text
from sqlalchemy.dialects.mysql import LONGTEXT
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Id, Name, Prose, Word


class NoticeChoice(Base):
    """That somebody wants notices of a group (core.notices.GROUPS) by mail, or not. Without a choice, they
    come by mail."""

    __tablename__ = "notice_choice"
    audience: Mapped[Word] = mapped_column(primary_key=True)
    audience_id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=False)
    group: Mapped[Word] = mapped_column(primary_key=True)
    by_mail: Mapped[bool]


class Notice(Base):
    """Something somebody was told: one of the provider's people or a consumer's member (`audience` person, member), by
    `kind`, in words, with where to look. `read_at` is when they did. Nobody sees it before `written_at`; what `cause`
    names may be undone until then, and the notice with it. `fields` are what its words were filled in with."""

    __tablename__ = "notice"
    __table_args__ = (
        Index("ix_notice_audience", "audience", "audience_id", "id"),
        Index("ix_notice_kind", "kind", "id"),
    )
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
    fields: Mapped[dict[str, Any] | None]


class NoticeKind(Base):
    """How the provider has a kind of notice: in its own words (none: in those that ship with the product), and by mail
    or not. `trouble` says why its own words could not be filled in, the last time they could not."""

    __tablename__ = "notice_kind"
    kind: Mapped[Word] = mapped_column(primary_key=True)
    subject: Mapped[str | None] = mapped_column(Text)
    text: Mapped[str | None] = mapped_column(Text)
    html: Mapped[str | None] = mapped_column(LONGTEXT)
    by_mail: Mapped[bool] = mapped_column(default=True)
    trouble: Mapped[Name] = mapped_column(default="")
    changed_by: Mapped[Name]
    changed_at: Mapped[datetime]
    edition: Mapped[int] = mapped_column(default=1)
