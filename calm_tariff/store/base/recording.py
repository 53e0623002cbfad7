"""Writing entries of the record, and events: those of a transaction at its end, in one order for all transactions. The
entries are links of one chain."""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from datetime import UTC
from typing import Any

from sqlalchemy import Row, inspect, select
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from calm_tariff.core import chain
from calm_tariff.core.chain import Link
from calm_tariff.store.base.events import Event
from calm_tariff.store.base.locking import locked
from calm_tariff.store.base.record import AuditEntry, RecordEnd

END = 1
PART = 2000
_NOTED = "noted"


def keep(session: Session, entry: AuditEntry | None, event: Event) -> None:
    """Have an entry, where there is one, and the event that it is written at the end of the transaction."""
    _noted(session).append((entry, event))


@contextmanager
def apart(session: Session) -> Iterator[None]:
    """A part of a transaction that leaves nothing behind where it fails, not in the record either."""
    noted = _noted(session)
    before = len(noted)
    try:
        with session.begin_nested():
            yield
    except BaseException:
        del noted[before:]
        raise


def write_down(session: Session) -> None:
    """Write the entries that were kept in this transaction, each tied to the one before, and the events. From here to
    the commit nobody else writes any: whoever sees an event has seen all before it."""
    noted = _noted(session)
    if not noted:
        return
    session.flush()
    end = _end(session)
    for entry, event in noted:
        if entry is None:
            continue
        entry.id = end.number + 1
        entry.salt = secrets.token_hex(16)
        entry.content = chain.content(says(entry), entry.salt)
        entry.digest = chain.digest(end.digest, entry.id, entry.content)
        end.number, end.digest = entry.id, entry.digest
        event.entry_id = entry.id
    session.add_all(entry for entry, _ in noted if entry is not None)
    session.flush()
    for _, event in noted:  # each by itself: their ids are to rise as they happened
        session.add(event)
        session.flush()
    noted.clear()


def _end(session: Session) -> RecordEnd:
    """The end of the record, held; made where there is none yet."""
    end = locked(session, RecordEnd, END)
    if end is None:
        last = session.execute(select(AuditEntry.id, AuditEntry.digest).order_by(AuditEntry.id.desc()).limit(1)).first()
        number, digest = last or (0, chain.BEGINNING)
        made = insert(RecordEnd).values(id=END, number=number, digest=digest)
        session.execute(made.prefix_with("IGNORE"))  # where another transaction was first
        end = locked(session, RecordEnd, END)
        assert end is not None
    return end


def says(entry: AuditEntry | Row[Any]) -> Mapping[str, Any]:
    """What an entry says, as its digest is made of it."""
    return {
        "at": entry.at.astimezone(UTC).isoformat(),
        "by": entry.by,
        "actor": entry.actor,
        "action": entry.action,
        "subject": [entry.subject_kind, entry.subject_id, entry.subject],
        "before": entry.before,
        "after": entry.after,
        "why": entry.why,
    }


def links(session: Session, until: int) -> Iterator[Link]:
    """The record's chain up to a number, read in parts."""
    after = 0
    while True:
        between = (AuditEntry.id > after) & (AuditEntry.id <= until)
        query = select(*inspect(AuditEntry).columns).where(between).order_by(AuditEntry.id).limit(PART)
        part = session.execute(query).all()
        for entry in part:
            yield Link(
                number=entry.id,
                says=None if entry.erased_by is not None and _is_emptied(entry) else says(entry),
                salt=entry.salt,
                content=entry.content,
                digest=entry.digest,
                erased_by=entry.erased_by,
            )
        if len(part) < PART:
            return
        after = part[-1].id


def _is_emptied(entry: Row[Any]) -> bool:
    """Whether an entry says no more than when, by which id and of what kind of act it was written."""
    words = (entry.actor, entry.subject, entry.before, entry.after, entry.why, entry.salt)
    return not any(words)


def _noted(session: Session) -> list[tuple[AuditEntry | None, Event]]:
    noted: list[tuple[AuditEntry | None, Event]] = session.info.setdefault(_NOTED, [])
    return noted
