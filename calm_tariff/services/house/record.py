"""The record as a whole: what it can be narrowed to, and whether its chain holds."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core import chain
from calm_tariff.core.chain import Checked
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.base import recording
from calm_tariff.store.base.record import AuditEntry, RecordEnd


@dataclass(frozen=True, slots=True, kw_only=True)
class Author:
    """Somebody who is in the record: by id, and by the name they had last."""

    by: str
    name: str


@dataclass(frozen=True, slots=True, kw_only=True)
class RecordChoices:
    """What the record can be narrowed to: by whom, about things of which kind, of what was done."""

    authors: list[Author]
    subject_kinds: list[str]
    actions: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class RecordProof:
    """What came of looking through the record's chain (core.chain): so many entries hold, `erased` of them without
    their words; the number and digest of the last that does, which can be kept elsewhere and compared later; and what
    is wrong with the one after it, or empty."""

    entries: int
    erased: int
    number: int
    digest: str
    wrong: str


def choices(ctx: Context) -> RecordChoices:
    """What the record can be narrowed to."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        last = select(AuditEntry.by, func.max(AuditEntry.id).label("id")).where(AuditEntry.by != "")
        latest = last.group_by(AuditEntry.by).subquery()
        authors = session.execute(select(AuditEntry.by, AuditEntry.actor).join(latest, latest.c.id == AuditEntry.id))
        return RecordChoices(
            authors=sorted(
                (Author(by=by, name=name or by) for by, name in authors), key=lambda a: (a.name.lower(), a.by)
            ),
            subject_kinds=list(session.scalars(select(AuditEntry.subject_kind).distinct().order_by("subject_kind"))),
            actions=list(session.scalars(select(AuditEntry.action).distinct().order_by("action"))),
        )


def proof(ctx: Context, kept: str = "") -> RecordProof:
    """Look through the whole chain; and for a number and digest that somebody kept (`12:ab…`), see that it still holds
    that entry."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        # What is added from here on is not looked at.
        end = session.get(RecordEnd, recording.END)
        number, digest = (end.number, end.digest) if end else (0, chain.BEGINNING)
        found = chain.looked_through(recording.links(session, until=number))
        return _told(found, found.wrong or _end_wrong(found, number, digest) or _kept_wrong(session, kept))


def _told(found: Checked, wrong: str) -> RecordProof:
    return RecordProof(
        entries=found.entries, erased=found.erased, number=found.number, digest=found.digest, wrong=wrong
    )


def _end_wrong(found: Checked, number: int, digest: str) -> str:
    if found.number == number and found.digest == digest:
        return ""
    return f"the record ends at entry {found.number}, and must end at {number}: what came last is missing"


def _kept_wrong(session: Session, kept: str) -> str:
    if not kept:
        return ""
    number, _, digest = kept.strip().partition(":")
    entry = session.get(AuditEntry, int(number)) if number.isascii() and number.isdigit() and len(number) < 19 else None
    if entry is None:
        return f"there is no entry {number[:40]}, whose digest was kept"
    if entry.digest != digest.strip().lower():
        return f"entry {number} is another one than that whose digest was kept"
    return ""
