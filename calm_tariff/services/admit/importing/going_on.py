"""Going on with a file that is brought in, some rows at a time: first each is made and undone, which says whether it
can be; then each is made for good, in a transaction of its own with the note that it was. A worker that dies leaves
nothing half done, and the next goes on where it was."""

from __future__ import annotations

import logging
from datetime import datetime

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from calm_tariff.core import importing
from calm_tariff.core.errors import CalmTariffError, Conflict, Deadlocked, Invalid, NotAllowed, NotFound
from calm_tariff.core.importing import Kind
from calm_tariff.services.admit.importing import making
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Actor, Context
from calm_tariff.services.house import service_tokens
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.store.admit.imports import Import, ImportRow
from calm_tariff.store.base.locking import locked
from calm_tariff.store.house.people import Person

log = logging.getLogger("calm_tariff.importing")
# So many rows at a time; then others have their turn.
ROWS = 50
# What a row is refused with; whatever else goes wrong is tried again.
_REFUSALS = (Conflict, Invalid, NotAllowed, NotFound)


class _Undone(Exception):
    """What was tried is undone."""


def go_on(ctx: Context, import_id: int) -> datetime | None:
    """Go on with a file; returns when to go on again, if there is more."""
    with ctx.transaction() as session:
        found = session.get(Import, import_id)
        if found is None or found.stage not in ("checking", "running"):
            return None
        kind, checking = importing.kind(found.kind), found.stage == "checking"
        own = _acting(session, ctx, found.identity)
        rows = _next(session, import_id, "waiting" if checking else "good")
        if own is None:
            _over(session, ctx, import_id, "stopped", "whoever began it cannot act any more")
            return None
    for row_id in rows:
        with ctx.transaction() as session:
            stage = session.scalar(select(Import.stage).where(Import.id == import_id))
        if stage != ("checking" if checking else "running"):
            return None  # stopped, or forgotten, meanwhile
        if checking:
            _check(own, kind, row_id)
        else:
            _make(own, kind, row_id)
    with ctx.transaction() as session:
        if _next(session, import_id, "waiting" if checking else "good"):
            return ctx.now
        _over(session, ctx, import_id, "checked" if checking else "done", "")
    return None


def _check(own: Context, kind: Kind, row_id: int) -> None:
    """Try a row, undo it, and note whether it can be made."""
    with own.transaction() as session:
        row = session.get_one(ImportRow, row_id)
        cells, said = row.cells, ""
    try:
        with own.transaction() as session:
            making.make(session, own, kind, cells, letters=False)
            raise _Undone
    except _Undone:
        pass
    except _REFUSALS as error:
        said = _said(kind, error)
    with own.transaction() as session:
        values = {"state": "wrong" if said else "good", "said": said}
        session.execute(update(ImportRow).where(ImportRow.id == row_id).values(values))


def _make(own: Context, kind: Kind, row_id: int) -> None:
    """Make what a row says, once."""
    try:
        with own.transaction() as session:
            row = locked(session, ImportRow, row_id)
            if row is None or row.state != "good":
                return
            letters = session.get_one(Import, row.import_id).letters
            made = making.make(session, own, kind, row.cells, letters)
            row.state, row.said, row.consumer_id = "made", made.said, made.consumer_id
    except _REFUSALS as error:
        with own.transaction() as session:
            values = {"state": "refused", "said": _said(kind, error)}
            session.execute(update(ImportRow).where(ImportRow.id == row_id).values(values))


def _said(kind: Kind, error: CalmTariffError) -> str:
    if isinstance(error, Deadlocked):
        raise error  # nothing was done, and the same may be tried again
    column = making.column(kind, error.where)
    return f"{column}: {error.what}" if column else str(error)


def _next(session: Session, import_id: int, state: str) -> list[int]:
    query = select(ImportRow.id).where(ImportRow.import_id == import_id, ImportRow.state == state)
    return list(session.scalars(query.order_by(ImportRow.id).limit(ROWS)))


def _over(session: Session, ctx: Context, import_id: int, stage: str, why: str) -> None:
    found = locked(session, Import, import_id)
    if found is None or found.stage not in ("checking", "running"):
        return
    found.stage, found.touched_at = stage, ctx.now
    if why:
        auditing.note(session, ctx, "stopped bringing a file in", ("import", found.id, found.name), why=why)
        log.warning("the file %s is brought in no further: %s", found.name, why)


def _acting(session: Session, ctx: Context, identity: str) -> Context | None:
    """Whoever began it, with the roles they have now."""
    kind, _, number = identity.partition(" ")
    who: Actor | None = None
    if kind == "person" and number.isdigit():
        person = session.get(Person, int(number))
        who = PEOPLE.acting(person) if person is not None and PEOPLE.takes(session, person) else None
    elif kind == "token" and number.isdigit():
        who = service_tokens.who_still(session, ctx, int(number))
    return None if who is None else ctx.acting(who)
