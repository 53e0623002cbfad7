"""Files of calls that other gateways counted: taken whole, checked and seen before anything is recorded, then recorded,
stopped, gone on with.

Source: docs/arithmetic.md, section 6.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Any, BinaryIO

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import USAGE_FILE, move
from calm_tariff.core.names import cut, plain
from calm_tariff.core.outside_calls import LONGEST_SOURCE, Stage
from calm_tariff.formats import outside_calls
from calm_tariff.formats.values import write
from calm_tariff.services.base import auditing, jobs
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.serve.elsewhere import parts
from calm_tariff.store.base.locking import locked
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.serve.outside_usage import UsageFile, UsageFilePart, UsageFileRow

BRINGERS = ("finance", "operations")
GO_ON = "go on with a file of usage"
# So large a file may be, and so long one is kept that nothing is done with.
MOST_BYTES = 500_000_000
KEPT = timedelta(days=30)
# So many rows of a file may be unusable; one with more is not what it says it is.
MOST_UNUSABLE = 10_000


@dataclass(frozen=True, slots=True, kw_only=True)
class UsageFileView:
    """A file as far as it is: of its `rows` those that are `usable`, `known` by their source and id, and `unusable`;
    since then `recorded`, and `differing` from what is recorded. `done` of `parts` is how far the check, or the
    recording, has come; `why` says why it was refused."""

    id: int
    name: str
    stage: Stage
    brought_by: str
    brought_at: datetime
    parts: int
    done: int
    rows: int
    usable: int
    known: int
    unusable: int
    recorded: int
    differing: int
    sources: list[str]
    why: str


@dataclass(frozen=True, slots=True, kw_only=True)
class UnusableRow:
    """A row of a file that cannot be used: its line, or its place in a batch, why, and its text."""

    line: int
    why: str
    text: str


def take(ctx: Context, name: str, file: BinaryIO, source: str = "") -> UsageFileView:
    """Take a file in, to be checked: nothing of it is recorded. `source` is that of rows which name none. Raises
    `Invalid`, naming what is wrong, for one that is no file of calls; then nothing of it is kept."""
    ctx.actor.must_be(*BRINGERS)
    name = cut(plain(name, "name", 1000))
    source = source_of(source)
    layout, found = outside_calls.parts(file, source)
    with ctx.transaction() as session:
        made = begun(session, ctx, name, "checking", write(layout))
        for nth, part in enumerate(found):
            kept = parts.packed(part)
            session.add(UsageFilePart(file_id=made.id, nth=nth, first=part.first, packed=kept))
            session.flush()
            session.expunge_all()  # a large file is not held whole
            made.parts = nth + 1
        if not made.parts:
            raise Invalid("has no calls", "file")
        held = session.get_one(UsageFile, made.id)
        held.parts = made.parts
        auditing.note(session, ctx, "took a file of usage in", subject(held), after={"parts": held.parts})
        _go_on(session, ctx, held)
        return view(held)


def begun(session: Session, ctx: Context, name: str, stage: Stage, layout: dict[str, Any]) -> UsageFile:
    """A file that somebody has brought in."""
    made = UsageFile(
        name=name,
        stage=stage,
        layout=layout,
        brought_by=cut(ctx.actor.name),
        identity=ctx.actor.identity,
        brought_at=ctx.now,
        touched_at=ctx.now,
    )
    session.add(made)
    session.flush()
    return made


def record(ctx: Context, usage_file_id: int, leaving_out: bool) -> UsageFileView:
    """Record what a checked file has, or go on with one that was stopped. Where rows of it cannot be used,
    `leaving_out` must agree to leave them out. Raises `NotFound`, or `Conflict` where it is not at that."""
    ctx.actor.must_be(*BRINGERS)
    with ctx.transaction() as session:
        found = _held(session, usage_file_id)
        first = found.stage == "checked"
        found.stage = move(USAGE_FILE, "the file", found.stage, "recording")
        if found.unusable and not leaving_out:
            rows = "one row" if found.unusable == 1 else f"{found.unusable:,} rows"
            raise Conflict(f"{rows} of it cannot be used: agree to leave them out, or bring a better one", found.name)
        if not found.usable and not found.known:
            raise Conflict("has nothing that could be recorded", found.name)
        if first:
            found.parts_done = found.known = 0
        found.touched_at = ctx.now
        auditing.note(session, ctx, "had a file of usage recorded", subject(found), after={"calls": found.usable})
        _go_on(session, ctx, found)
        return view(found)


def stop(ctx: Context, usage_file_id: int) -> UsageFileView:
    """Stop recording a file: what is recorded stays. Raises `NotFound`, or `Conflict` where it is not at that."""
    ctx.actor.must_be(*BRINGERS)
    with ctx.transaction() as session:
        found = _held(session, usage_file_id)
        found.stage, found.touched_at = move(USAGE_FILE, "the file", found.stage, "stopped"), ctx.now
        auditing.note(session, ctx, "stopped recording a file of usage", subject(found))
        return view(found)


def drop(ctx: Context, usage_file_id: int) -> None:
    """Forget a file of which nothing was recorded. Raises `NotFound`, or `Conflict`."""
    ctx.actor.must_be(*BRINGERS)
    with ctx.transaction() as session:
        found = _held(session, usage_file_id)
        if found.stage not in ("checked", "refused"):
            raise Conflict(f"it is {found.stage}; what was recorded, or may be yet, is not forgotten", found.name)
        auditing.note(session, ctx, "forgot a file of usage", subject(found))
        _forget(session, [found.id])


def forget(ctx: Context) -> int:
    """Forget files that nothing was done with for a while and of which nothing was recorded; returns how many."""
    with ctx.transaction() as session:
        unused = UsageFile.stage.in_(("checked", "refused")) & (UsageFile.touched_at < ctx.now - KEPT)
        found = list(session.scalars(select(UsageFile.id).where(unused)))
        _forget(session, found)
        return len(found)


def listed(ctx: Context, wanted: PageQuery) -> Page[UsageFileView]:
    """A page of the files, the latest first. Words narrow it to names."""
    ctx.actor.must_be(*ROLES)
    query = select(UsageFile)
    if wanted.words:
        query = query.where(UsageFile.name.contains(wanted.words, autoescape=True))
    with ctx.reading() as session:
        asked = replace(wanted, down=not wanted.down)
        found = page(session, query, UsageFile.id, {"brought": UsageFile.brought_at}, asked)
        return replace(found, rows=[view(each) for each in found.rows])


def one(ctx: Context, usage_file_id: int) -> UsageFileView:
    """A file as far as it is. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return view(_there(session, usage_file_id))


def unusable(ctx: Context, usage_file_id: int, wanted: PageQuery) -> Page[UnusableRow]:
    """A page of a file's rows that cannot be used, in their order. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    query = select(UsageFileRow).where(UsageFileRow.file_id == usage_file_id)
    if wanted.words:
        query = query.where(UsageFileRow.said.contains(wanted.words, autoescape=True))
    with ctx.reading() as session:
        _there(session, usage_file_id)
        found = page(session, query, UsageFileRow.id, {"line": UsageFileRow.line}, wanted)
        return replace(found, rows=[UnusableRow(line=r.line, why=r.said, text=r.text) for r in found.rows])


def all_unusable(session: Session, usage_file_id: int) -> list[UnusableRow]:
    """All of them."""
    query = select(UsageFileRow).where(UsageFileRow.file_id == usage_file_id).order_by(UsageFileRow.line)
    return [UnusableRow(line=r.line, why=r.said, text=r.text) for r in session.scalars(query)]


def source_of(text: str) -> str:
    """The source of rows that name none; empty where each must. Raises `Invalid`."""
    if len(text) > LONGEST_SOURCE or not text.isprintable():
        raise Invalid(f"must be at most {LONGEST_SOURCE} printable characters", "source")
    return text.strip()


def subject(of: UsageFile) -> Thing:
    """A file, as the record names it."""
    return Thing("usage file", of.id, of.name)


def view(of: UsageFile) -> UsageFileView:
    """A file as people see it."""
    return UsageFileView(
        id=of.id,
        name=of.name,
        stage=of.stage,  # type: ignore[arg-type]
        brought_by=of.brought_by,
        brought_at=of.brought_at,
        parts=of.parts,
        done=of.parts_done,
        rows=of.rows,
        usable=of.usable,
        known=of.known,
        unusable=of.unusable,
        recorded=of.recorded,
        differing=of.differing,
        sources=sorted(of.sources),
        why=of.why,
    )


def _go_on(session: Session, ctx: Context, of: UsageFile) -> None:
    jobs.write(session, ctx, GO_ON, cut(of.name), {"file": of.id}, subject=str(of.id))


def _forget(session: Session, files: list[int]) -> None:
    for table in (UsageFilePart, UsageFileRow):
        session.execute(delete(table).where(table.file_id.in_(files)))
    session.execute(delete(UsageFile).where(UsageFile.id.in_(files)))


def _there(session: Session, usage_file_id: int) -> UsageFile:
    found = session.get(UsageFile, usage_file_id)
    if found is None:
        raise NotFound("there is no such file of usage", str(usage_file_id))
    return found


def _held(session: Session, usage_file_id: int) -> UsageFile:
    found = locked(session, UsageFile, usage_file_id)
    if found is None:
        raise NotFound("there is no such file of usage", str(usage_file_id))
    return found
