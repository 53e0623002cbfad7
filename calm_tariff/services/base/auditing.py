"""The record: who changed what, when, from what to what, and why."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from sqlalchemy import or_, select
from sqlalchemy.orm import Session

from calm_tariff.core.names import cut
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.base.record import AuditEntry


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
            at=ctx.now,
            actor=cut(who),
            action=cut(action),
            subject_kind=kind,
            subject_id=identifier,
            subject=cut(name),
            before=before,
            after=after,
            why=why,
        )
    )


def entries(ctx: Context, wanted: PageQuery) -> Page[Entry]:
    """A page of the record, the newest first, or the oldest if `down`; words narrow it to actor, action or subject."""
    ctx.actor.must_be(*ROLES)
    query = select(AuditEntry)
    if wanted.words:
        columns = (AuditEntry.actor, AuditEntry.action, AuditEntry.subject)
        query = query.where(or_(*(c.contains(wanted.words, autoescape=True) for c in columns)))
    with ctx.transaction() as session:
        asked = replace(wanted, down=not wanted.down)
        found = page(session, query, AuditEntry.id, {"at": AuditEntry.id}, asked)
        return replace(found, rows=[_entry(e) for e in found.rows])


def about(session: Session, kind: str, identifier: int, most: int) -> list[Entry]:
    """What the record has about a thing, the latest first."""
    query = select(AuditEntry).where(AuditEntry.subject_kind == kind, AuditEntry.subject_id == identifier)
    return [_entry(e) for e in session.scalars(query.order_by(AuditEntry.id.desc()).limit(most))]


def _entry(e: AuditEntry) -> Entry:
    return Entry(
        id=e.id,
        at=e.at,
        actor=e.actor,
        action=e.action,
        subject_kind=e.subject_kind,
        subject_id=e.subject_id,
        subject=e.subject,
        before=e.before,
        after=e.after,
        why=e.why,
    )
