"""Which calls are recorded already, and whose turn it is to record calls of a source."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from datetime import datetime

from sqlalchemy import select, update
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from calm_tariff.store.base.locking import in_turn
from calm_tariff.store.serve.outside_usage import UsageSource
from calm_tariff.store.serve.usage import Call

# More ids in one question are looked for in a slower way.
_AT_ONCE = 900
NOTHING = 0


def known(session: Session, call_ids: Collection[str]) -> set[str]:
    """Those of these ids by which calls are recorded."""
    wanted, found = list(call_ids), set[str]()
    for start in range(0, len(wanted), _AT_ONCE):
        found.update(session.scalars(select(Call.call_id).where(Call.call_id.in_(wanted[start : start + _AT_ONCE]))))
    return found


def last_written(session: Session, sources: Iterable[str]) -> dict[str, int]:
    """What recorded calls of each source last; NOTHING where none are recorded."""
    names = sorted(set(sources))
    found = session.execute(select(UsageSource.name, UsageSource.file_id).where(UsageSource.name.in_(names)))
    return dict.fromkeys(names, NOTHING) | {name: file_id for name, file_id in found}  # noqa: C416


def hold_sources(session: Session, sources: Iterable[str], file_id: int, now: datetime) -> Mapping[str, int]:
    """Hold sources until the transaction ends, so that nobody else records calls of them, and say that `file_id` does;
    returns what did last."""
    names = sorted(set(sources))
    if not names:
        return {}
    in_turn(session, UsageSource.__tablename__, names)
    there = [{"name": name, "file_id": NOTHING, "changed_at": now} for name in names]
    # Whoever meets a row that is there holds it at once, and not for reading first.
    made = insert(UsageSource)
    session.execute(made.on_duplicate_key_update(changed_at=made.inserted.changed_at), there)
    held = select(UsageSource.name, UsageSource.file_id).where(UsageSource.name.in_(names))
    before = {name: last for name, last in session.execute(held.order_by(UsageSource.name).with_for_update())}  # noqa: C416
    written = {"file_id": file_id, "changed_at": now}
    session.execute(update(UsageSource).where(UsageSource.name.in_(names)).values(written))
    return before
