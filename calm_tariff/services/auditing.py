"""The record: who changed what, when, from what to what, and why."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.services.context import ROLES, Context
from calm_tariff.store.record import AuditEntry


@dataclass(frozen=True, slots=True)
class Entry:
    """One line of the record."""

    id: int
    at: datetime
    actor: str
    action: str
    subject_kind: str
    subject_id: int
    subject: str
    before: dict[str, Any] | None
    after: dict[str, Any] | None
    why: str


@dataclass(frozen=True, slots=True)
class EntryPage:
    """Entries, newest first; `next` is the cursor of the page after."""

    entries: list[Entry]
    next: str | None


def note(
    session: Session,
    ctx: Context,
    action: str,
    subject: tuple[str, int, str],
    before: dict[str, Any] | None = None,
    after: dict[str, Any] | None = None,
    why: str = "",
) -> None:
    """Write an entry in the same transaction as what it speaks of. `subject` is kind, id, name."""
    kind, identifier, name = subject
    who = ctx.actor.name + (f", {ctx.actor.consumer}" if ctx.actor.consumer else "")
    session.add(
        AuditEntry(
            at=ctx.now, actor=who, action=action, subject_kind=kind, subject_id=identifier,
            subject=name, before=before, after=after, why=why,
        )
    )  # fmt: skip


def entries(ctx: Context, words: str = "", cursor: str | None = None, limit: int = 50) -> EntryPage:
    """A page of the record, newest first; `words` narrows it to actor, action or subject."""
    ctx.actor.must_be(*ROLES)
    query = select(AuditEntry).order_by(AuditEntry.id.desc()).limit(limit + 1)
    if cursor:
        query = query.where(AuditEntry.id < int(cursor))
    if words:
        like = f"%{words}%"
        query = query.where(AuditEntry.actor.like(like) | AuditEntry.action.like(like) | AuditEntry.subject.like(like))
    with ctx.transaction() as session:
        found = [
            Entry(
                e.id,
                e.at,
                e.actor,
                e.action,
                e.subject_kind,
                e.subject_id,
                e.subject,
                e.before,
                e.after,
                e.why,
            )
            for e in session.scalars(query)
        ]
    more = len(found) > limit
    return EntryPage(found[:limit], str(found[limit - 1].id) if more else None)
