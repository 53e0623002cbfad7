"""What was done, what is still to be sent, and what must happen only once."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, Index, String, Text
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Hash, Id, Name, Prose, Word


class AuditEntry(Base):
    """Who changed what, when and why. Never updated. `by` is who it was by id (`Actor.identity`); empty in entries that
    are older than it. Ids follow on each other in the order of the chain (core.chain) that `salt`, `content` and
    `digest` belong to; `erased_by` is the entry that tells who took the words out of this one."""

    __tablename__ = "audit_entry"
    __table_args__ = (Index("ix_audit_entry_subject", "subject_kind", "subject_id"),)
    id: Mapped[Id]
    at: Mapped[datetime] = mapped_column(index=True)
    by: Mapped[Name] = mapped_column(index=True)
    actor: Mapped[Name]
    action: Mapped[Name] = mapped_column(index=True)
    subject_kind: Mapped[Word]
    subject_id: Mapped[int] = mapped_column(BigInteger)
    subject: Mapped[Name]
    before: Mapped[dict[str, Any] | None]
    after: Mapped[dict[str, Any] | None]
    why: Mapped[Prose] = mapped_column(default="")
    salt: Mapped[str] = mapped_column(String(32))
    content: Mapped[Hash]
    digest: Mapped[Hash]
    erased_by: Mapped[int | None] = mapped_column(BigInteger)


class RecordEnd(Base):
    """The last entry of the record. There is one row, which whoever adds entries holds until they are there."""

    __tablename__ = "record_end"
    id: Mapped[Id]
    number: Mapped[int] = mapped_column(BigInteger)
    digest: Mapped[Hash]


class Mail(Base):
    """A letter waiting to be handed to the mail server, or handed over, as text and as HTML; `failed` says why it
    cannot be. What a `confidential` one says is not kept once it was. What `cause` names may still be undone, and the
    letter with it. It is of a `kind` of notice, and
    speaks of what is at `page`, below where its recipient is at home. It `encloses` a document of money, by its id."""

    __tablename__ = "mail"
    id: Mapped[Id]
    recipient: Mapped[Name] = mapped_column(index=True)
    kind: Mapped[Word] = mapped_column(default="")
    subject: Mapped[Name]
    body: Mapped[Prose]
    html: Mapped[str | None] = mapped_column(Text)
    created_at: Mapped[datetime] = mapped_column(index=True)
    sent_at: Mapped[datetime | None] = mapped_column(index=True)
    failed: Mapped[str | None] = mapped_column(Text)
    confidential: Mapped[bool] = mapped_column(default=False)
    cause: Mapped[str | None] = mapped_column(String(60), index=True)
    page: Mapped[Name] = mapped_column(default="", index=True)
    encloses: Mapped[int | None] = mapped_column(BigInteger)


class IdempotentAnswer(Base):
    """The answer already given to an idempotency key, by who asked."""

    __tablename__ = "answered"
    actor: Mapped[Name] = mapped_column(primary_key=True)
    key: Mapped[str] = mapped_column(String(100), primary_key=True)
    request: Mapped[str] = mapped_column(String(64))
    answer: Mapped[dict[str, Any]]
    at: Mapped[datetime]


class ReceivedWebhook(Base):
    """A webhook of somebody's that was taken, by its own id: it is taken once."""

    __tablename__ = "received_webhook"
    id: Mapped[str] = mapped_column(String(100), primary_key=True)
    received_at: Mapped[datetime] = mapped_column(index=True)


class Stamp(Base):
    """A number that rises with every change the gateways must know of."""

    __tablename__ = "stamp"
    name: Mapped[Word] = mapped_column(primary_key=True)
    number: Mapped[int] = mapped_column(BigInteger)
    changed_at: Mapped[datetime]
