"""Taking somebody's personal data out of the database: their own rows, what others wrote of them, and the words of the
record about them, whose entries stay in their chain."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import (
    JSON,
    ColumnElement,
    Table,
    Text,
    and_,
    delete,
    false,
    inspect,
    or_,
    select,
    text,
    type_coerce,
    update,
)
from sqlalchemy.orm import Session

from calm_tariff.core.chain import ERASED
from calm_tariff.core.erasing import Trace, forms, mail_addresses, without
from calm_tariff.store.base.record import AuditEntry
from calm_tariff.store.observe.own_rows import ADDRESSED, OWN, SPOKEN

PART = 500
# Who serves may not change the record otherwise.
_EMPTY = text("CALL empty_entry(:emptied, :telling, :keeps_action)")
_SAID = ("actor", "action", "subject", "before", "after", "why")


@dataclass(frozen=True, slots=True, kw_only=True)
class Entries:
    """Entries of the record: by who acted, and by what they are about (kind and ids)."""

    by: Collection[str]
    about: Sequence[tuple[str, Collection[int]]]


def erase_of_consumer(session: Session, consumer: int) -> None:
    """Take the personal data out of a consumer's own rows."""
    for own in reversed(OWN):  # what belongs to something is found by it: the consumer comes last
        _erase(session, own.table, own.of_consumer(consumer), own.becomes)


def erase_of_member(session: Session, member: int) -> None:
    """Take the personal data out of a member's own rows."""
    for own in reversed(OWN):
        if own.of_member is not None:
            _erase(session, own.table, own.of_member(member), own.becomes)


def erase_addressed(session: Session, addresses: Collection[str]) -> None:
    """Take away what is there for mail addresses alone."""
    for table, column in ADDRESSED:
        session.execute(delete(table).where(table.c[column].in_(addresses)))


def erase_spoken(session: Session, traces: Sequence[Trace]) -> None:
    """Have names give way wherever others' words speak of them. Rows are found by the traces that are certain."""
    for table, columns in SPOKEN:
        key = [table.c[c.name] for c in table.primary_key]
        spoken = [table.c[name] for name in columns]
        for part in _parts(session, table, key, spoken, _speaks(spoken, traces)):
            for row in part:
                said = dict(zip(columns, row[len(key) :], strict=True))
                then = {name: without(value, traces) for name, value in said.items()}
                changed = {name: value for name, value in then.items() if value != said[name]}
                if changed:
                    here = and_(*(column == value for column, value in zip(key, row, strict=False)))
                    session.execute(update(table).where(here).values(changed))


def entries_of(session: Session, wanted: Entries, traces: Sequence[Trace]) -> list[int]:
    """The entries of the record that are by somebody, about what is theirs, or speak of them."""
    query = select(AuditEntry.id).where(or_(_tied(wanted), _speaks(_columns(_SAID), traces)))
    query = query.where(AuditEntry.erased_by.is_(None), AuditEntry.action.not_like(f"{ERASED}%"))
    return list(session.scalars(query.order_by(AuditEntry.id)))


def addresses_in(session: Session, wanted: Entries) -> set[str]:
    """The mail addresses that entries by somebody, or about what is theirs, speak of."""
    found: set[str] = set()
    for part in session.execute(select(*_columns(_SAID)).where(_tied(wanted), AuditEntry.erased_by.is_(None))):
        found.update(address.lower() for address in mail_addresses(json.dumps(list(part), ensure_ascii=False)))
    return found


def take_words_out(session: Session, entries: Collection[int], by: int, traces: Sequence[Trace]) -> None:
    """Leave of entries of the record when they were written, by which id, what was done, where that names nobody, and
    their place in the chain. `by` is the entry that tells of it."""
    actions = select(AuditEntry.id, AuditEntry.action).where(AuditEntry.id.in_(entries))
    for number, action in session.execute(actions).all():
        names_nobody = without(action, traces) == action
        session.execute(_EMPTY, {"emptied": number, "telling": by, "keeps_action": names_nobody})


def _columns(names: Sequence[str]) -> list[Any]:
    return [inspect(AuditEntry).columns[name] for name in names]


def _tied(wanted: Entries) -> ColumnElement[bool]:
    told = [and_(AuditEntry.subject_kind == kind, AuditEntry.subject_id.in_(ids)) for kind, ids in wanted.about if ids]
    return or_(AuditEntry.by.in_(wanted.by), *told)


def _erase(session: Session, table: Table, mine: ColumnElement[bool], becomes: Any) -> None:
    if becomes is None:
        session.execute(delete(table).where(mine))
    elif becomes:
        session.execute(update(table).where(mine).values(becomes))


def _parts(
    session: Session, table: Table, key: Sequence[Any], spoken: Sequence[Any], speaks: ColumnElement[bool]
) -> Iterator[Sequence[Any]]:
    """The rows that speak, so many at a time. They are changed meanwhile: what was seen stays behind."""
    seen = session.execute(select(*key).where(speaks)).all()
    for first in range(0, len(seen), PART):
        these = or_(*(and_(*(c == v for c, v in zip(key, row, strict=True))) for row in seen[first : first + PART]))
        yield session.execute(select(*key, *spoken).where(these)).all()


def _speaks(columns: Sequence[Any], traces: Sequence[Trace]) -> ColumnElement[bool]:
    """That one of the columns holds one of the traces that are certain, in one of its forms."""
    found: list[ColumnElement[bool]] = [false()]
    for column in columns:
        for form in (form for trace in traces if trace.certain for form in forms(trace.text)):
            kept = json.dumps(form)[1:-1] if isinstance(column.type, JSON) else form
            found.append(_text(column).contains(kept, autoescape=True))
    return or_(*found)


def _text(column: Any) -> Any:
    """A column as text: JSON is kept as such, as it was written."""
    return type_coerce(column, Text) if isinstance(column.type, JSON) else column
