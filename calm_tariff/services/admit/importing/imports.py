"""Files to bring in: taken whole and checked row by row, seen before anything is made, begun, stopped, gone on with."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Literal

from sqlalchemy import delete, func, insert, select
from sqlalchemy.orm import Session

from calm_tariff.core import importing
from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.importing import COLUMNS, MOST_ROWS, WHY, Kind
from calm_tariff.core.names import cut, plain
from calm_tariff.formats import csv_rows
from calm_tariff.formats.csv_rows import CsvRow
from calm_tariff.services.admit.importing import making
from calm_tariff.services.base import auditing, jobs
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.admit.imports import Import, ImportRow
from calm_tariff.store.base.locking import locked
from calm_tariff.store.base.paging import Page, PageQuery, page

BRINGERS = ("product manager", "reviewer")
GO_ON = "go on with a file that is brought in"
PART = 500
# So long a file is kept, with what stands in it about people.
KEPT = timedelta(days=30)

Stage = Literal["checking", "checked", "running", "stopped", "done"]
State = Literal["waiting", "good", "wrong", "made", "refused"]
STATES: tuple[State, ...] = ("waiting", "good", "wrong", "made", "refused")


@dataclass(frozen=True, slots=True, kw_only=True)
class FileTyped:
    """A file to bring in: the kind of things in it, its name, and its text (CSV, RFC 4180)."""

    kind: str
    name: str
    text: str


@dataclass(frozen=True, slots=True)
class ColumnView:
    """A column of a file, what stands in it, and whether each row needs it."""

    name: str
    holds: str
    needed: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class ImportView:
    """A file as far as it is brought in: how many rows stand in which state."""

    id: int
    kind: Kind
    name: str
    stage: Stage
    letters: bool
    begun_at: datetime
    begun_by: str
    rows: int
    waiting: int
    good: int
    wrong: int
    made: int
    refused: int


@dataclass(frozen=True, slots=True, kw_only=True)
class ImportRowView:
    """A row of a file: the line it begins at, its cells, how it stands, why, and whose what it made is."""

    id: int
    line: int
    about: str
    cells: dict[str, str]
    state: State
    said: str
    consumer_id: int | None


def columns(ctx: Context) -> dict[str, list[ColumnView]]:
    """The columns of each kind of file."""
    ctx.actor.must_be(*ROLES)
    return {kind: [ColumnView(c.name, c.holds, c.needed) for c in held] for kind, held in COLUMNS.items()}


def take(ctx: Context, typed: FileTyped) -> ImportView:
    """Take a file in, to be checked: nothing of it is made. Raises `Invalid` for one whose shape is wrong; then nothing
    of it is kept."""
    ctx.actor.must_be(*BRINGERS)
    kind, name = importing.kind(typed.kind), plain(typed.name, "name")
    head, rows = csv_rows.read(typed.text, MOST_ROWS)
    importing.must_fit(kind, head)
    read = _read(kind, rows)
    with ctx.transaction() as session:
        made = Import(
            kind=kind,
            name=name,
            stage="checking",
            begun_at=ctx.now,
            begun_by=cut(ctx.actor.name),
            identity=ctx.actor.identity,
            touched_at=ctx.now,
        )
        session.add(made)
        session.flush()
        for first in range(0, len(read), PART):
            part = read[first : first + PART]
            session.execute(insert(ImportRow), [{**row, "import_id": made.id} for row in part])
        auditing.note(session, ctx, f"took a file of {kind} in", ("import", made.id, name), after={"rows": len(rows)})
        _go_on(session, ctx, made)
        return _view(session, made)


def begin(ctx: Context, import_id: int, letters: bool) -> ImportView:
    """Bring in what is good of a file that was checked, or go on with one that was stopped; with `letters`, whoever
    gets an account is written to. Raises `NotFound`, or `Conflict` where it is not at that."""
    ctx.actor.must_be(*BRINGERS)
    with ctx.transaction() as session:
        found = _held(session, import_id)
        if found.stage not in ("checked", "stopped"):
            raise Conflict(f"it is {found.stage}", found.name)
        if not _counts(session, import_id).get("good"):
            raise Conflict("nothing of it can be brought in", found.name)
        found.stage, found.letters, found.touched_at = "running", letters, ctx.now
        found.identity, found.begun_by = ctx.actor.identity, cut(ctx.actor.name)
        auditing.note(session, ctx, f"brought a file of {found.kind} in", ("import", found.id, found.name))
        _go_on(session, ctx, found)
        return _view(session, found)


def stop(ctx: Context, import_id: int) -> ImportView:
    """Stop bringing a file in: what was made stays. Raises `NotFound`, or `Conflict` where it is not at that."""
    ctx.actor.must_be(*BRINGERS)
    with ctx.transaction() as session:
        found = _held(session, import_id)
        if found.stage != "running":
            raise Conflict(f"it is {found.stage}", found.name)
        found.stage, found.touched_at = "stopped", ctx.now
        auditing.note(session, ctx, "stopped bringing a file in", ("import", found.id, found.name))
        return _view(session, found)


def drop(ctx: Context, import_id: int) -> None:
    """Forget a file that is not being brought in, with its rows; what was made of it stays. Raises `NotFound`, or
    `Conflict`."""
    ctx.actor.must_be(*BRINGERS)
    with ctx.transaction() as session:
        found = _held(session, import_id)
        if found.stage == "running":
            raise Conflict("it is being brought in; stop it first", found.name)
        session.execute(delete(ImportRow).where(ImportRow.import_id == import_id))
        session.delete(found)
        auditing.note(session, ctx, "forgot a file that was taken in", ("import", import_id, found.name))


def forget(ctx: Context) -> int:
    """Forget files that nothing was done with for a while; returns how many. What was made of them stays."""
    with ctx.transaction() as session:
        old = select(Import.id).where(Import.stage != "running", Import.touched_at < ctx.now - KEPT)
        found = session.scalars(old).all()
        session.execute(delete(ImportRow).where(ImportRow.import_id.in_(found)))
        session.execute(delete(Import).where(Import.id.in_(found)))
        return len(found)


def listed(ctx: Context, wanted: PageQuery) -> Page[ImportView]:
    """A page of the files, the latest first."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        asked = replace(wanted, down=not wanted.down)
        found = page(session, select(Import), Import.id, {"begun": Import.begun_at}, asked)
        return replace(found, rows=[_view(session, each) for each in found.rows])


def one(ctx: Context, import_id: int) -> ImportView:
    """A file as far as it is brought in. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return _view(session, _there(session, import_id))


def rows(ctx: Context, import_id: int, wanted: PageQuery, state: str = "") -> Page[ImportRowView]:
    """A page of a file's rows in their order, or of those in a state. Raises `NotFound`, or `Invalid`."""
    ctx.actor.must_be(*ROLES)
    if state and state not in STATES:
        raise Invalid(f"must be one of {', '.join(STATES)}", "state")
    query = select(ImportRow).where(ImportRow.import_id == import_id)
    if state:
        query = query.where(ImportRow.state == state)
    if wanted.words:
        query = query.where(ImportRow.about.contains(wanted.words, autoescape=True))
    with ctx.reading() as session:
        _there(session, import_id)
        found = page(session, query, ImportRow.id, {"line": ImportRow.line}, wanted)
        return replace(found, rows=[_row_view(row) for row in found.rows])


def left_out(ctx: Context, import_id: int) -> tuple[list[str], list[list[str]]]:
    """The head and rows of those that were not brought in, with why, to be put right and brought in again. Raises
    `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        found = _there(session, import_id)
        names = [column.name for column in COLUMNS[_kind(found)]]
        query = select(ImportRow).where(ImportRow.import_id == import_id, ImportRow.state.in_(("wrong", "refused")))
        stored = session.scalars(query.order_by(ImportRow.id))
        return [WHY, *names], [[row.said, *(row.cells.get(name, "") for name in names)] for row in stored]


def _go_on(session: Session, ctx: Context, of: Import) -> None:
    jobs.write(session, ctx, GO_ON, cut(of.name), {"import": of.id}, subject=str(of.id))


def _read(kind: Kind, rows: Sequence[CsvRow]) -> list[dict[str, object]]:
    """The rows as they are kept; what is wrong with one by itself, or beside another, is known at once."""
    seen: dict[str, int] = {}
    kept = []
    for row in rows:
        wrong = row.wrong or importing.wrong(kind, row.cells)
        if not wrong:
            keys = making.same(kind, row.cells)
            before = next((seen[key] for key in keys if key in seen), None)
            wrong = "" if before is None else f"says the same as line {before}"
            seen.update((key, row.line) for key in keys if key not in seen)
        kept.append(_row(row, wrong))
    return kept


def _row(row: CsvRow, wrong: str) -> dict[str, object]:
    named = [row.cells.get(name, "") for name in ("organisation", "application", "name", "product", "plan")]
    return {
        "line": row.line,
        "cells": row.cells,
        "about": cut(", ".join(name for name in named if name)),
        "state": "wrong" if wrong else "waiting",
        "said": wrong,
    }


def _there(session: Session, import_id: int) -> Import:
    found = session.get(Import, import_id)
    if found is None:
        raise NotFound("there is no such file", str(import_id))
    return found


def _held(session: Session, import_id: int) -> Import:
    found = locked(session, Import, import_id)
    if found is None:
        raise NotFound("there is no such file", str(import_id))
    return found


def _kind(of: Import) -> Kind:
    return importing.kind(of.kind)


def _counts(session: Session, import_id: int) -> Mapping[str, int]:
    query = select(ImportRow.state, func.count()).where(ImportRow.import_id == import_id).group_by(ImportRow.state)
    return {state: count for state, count in session.execute(query)}  # noqa: C416


def _view(session: Session, of: Import) -> ImportView:
    counts = _counts(session, of.id)
    return ImportView(
        id=of.id,
        kind=_kind(of),
        name=of.name,
        stage=of.stage,  # type: ignore[arg-type]
        letters=of.letters,
        begun_at=of.begun_at,
        begun_by=of.begun_by,
        rows=sum(counts.values()),
        **{state: counts.get(state, 0) for state in STATES},
    )


def _row_view(row: ImportRow) -> ImportRowView:
    return ImportRowView(
        id=row.id,
        line=row.line,
        about=row.about,
        cells=row.cells,
        state=row.state,  # type: ignore[arg-type]
        said=row.said,
        consumer_id=row.consumer_id,
    )
