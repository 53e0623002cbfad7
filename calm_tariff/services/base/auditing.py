"""The record: who changed what, when, from what to what, and why."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from typing import Any

from sqlalchemy import Select, or_, select
from sqlalchemy.orm import Session

from calm_tariff.core.changes import FieldChange, changes
from calm_tariff.core.errors import Invalid
from calm_tariff.core.events import Thing, type_of
from calm_tariff.core.names import cut
from calm_tariff.core.periods import day_start, moment_of
from calm_tariff.services.base import events
from calm_tariff.services.base.context import ROLES, Context, zone_of
from calm_tariff.store.base import recording
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.base.record import AuditEntry

apart = recording.apart


@dataclass(frozen=True, slots=True)
class Entry:
    """One line of the record. `by` is who it was by id, where that is known; `changes` is what `before` and `after`
    differ in. An `erased` one has lost its words, which spoke of a person."""

    id: int
    at: datetime
    by: str
    actor: str
    action: str
    subject_kind: str
    subject_id: int
    subject: str
    before: dict[str, Any] | None
    after: dict[str, Any] | None
    why: str
    erased: bool
    changes: list[FieldChange]


@dataclass(frozen=True, slots=True, kw_only=True)
class EntryFilter:
    """Which entries: by whom (by id), about things of a kind, or one of them, of what was done, and between two days of
    the provider's, both among them."""

    by: str = ""
    subject_kind: str = ""
    subject_id: int | None = None
    action: str = ""
    first: date | None = None
    last: date | None = None


ALL = EntryFilter()


def note(
    session: Session,
    ctx: Context,
    action: str,
    subject: tuple[str, int, str] | Thing,
    before: dict[str, Any] | None = None,
    after: dict[str, Any] | None = None,
    why: str = "",
    event: str = "",
) -> None:
    """Write an entry in the same transaction as what it speaks of, and the event that it is: of the type that its
    action stands for (core.events), unless `event` names another. `subject` is a thing, or its kind, id, name."""
    thing = Thing(*subject)
    who = events.who(ctx)
    of_type = event or type_of(thing.kind, action)
    detail = {"did": action, "before": before, "after": after, "why": why}
    recording.keep(
        session,
        AuditEntry(
            at=ctx.now,
            by=cut(ctx.actor.identity),
            actor=cut(who),
            action=cut(action),
            subject_kind=thing.kind,
            subject_id=thing.id,
            subject=cut(thing.name),
            before=before,
            after=after,
            why=why,
        ),
        events.made(ctx, of_type, thing, f"{who} {action}: {thing.name}", detail),
    )


def entries(ctx: Context, wanted: PageQuery, narrowed: EntryFilter = ALL) -> Page[Entry]:
    """A page of the record, the newest first, or the oldest if `down`; words narrow it to actor, action or subject."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        query = _narrowed(session, select(AuditEntry), narrowed)
        if wanted.words:
            columns = (AuditEntry.actor, AuditEntry.action, AuditEntry.subject)
            query = query.where(or_(*(c.contains(wanted.words, autoescape=True) for c in columns)))
        asked = replace(wanted, down=not wanted.down)
        found = page(session, query, AuditEntry.id, {"at": AuditEntry.at}, asked)
        return replace(found, rows=[_entry(e) for e in found.rows])


def about(session: Session, kind: str, identifier: int, most: int) -> list[Entry]:
    """What the record has about a thing, the latest first."""
    query = select(AuditEntry).where(AuditEntry.subject_kind == kind, AuditEntry.subject_id == identifier)
    return [_entry(e) for e in session.scalars(query.order_by(AuditEntry.id.desc()).limit(most))]


def _narrowed(session: Session, query: Select[tuple[AuditEntry]], narrowed: EntryFilter) -> Select[tuple[AuditEntry]]:
    for column, value in (
        (AuditEntry.by, narrowed.by or None),
        (AuditEntry.subject_kind, narrowed.subject_kind or None),
        (AuditEntry.subject_id, narrowed.subject_id),
        (AuditEntry.action, narrowed.action or None),
    ):
        if value is not None:
            query = query.where(column == value)
    here = zone_of(session)
    for field, day in (("first", narrowed.first), ("last", narrowed.last)):
        if day is not None and not 1970 < day.year < 9999:
            raise Invalid("must be a day of our time", field)
    if narrowed.first:
        query = query.where(AuditEntry.at >= moment_of(day_start(narrowed.first, here)))
    if narrowed.last:
        query = query.where(AuditEntry.at < moment_of(day_start(narrowed.last + timedelta(days=1), here)))
    return query


def _entry(e: AuditEntry) -> Entry:
    return Entry(
        id=e.id,
        at=e.at,
        by=e.by,
        actor=e.actor,
        action=e.action,
        subject_kind=e.subject_kind,
        subject_id=e.subject_id,
        subject=e.subject,
        before=e.before,
        after=e.after,
        why=e.why,
        erased=e.erased_by is not None,
        changes=changes(e.before, e.after),
    )
