"""Going on with a file of usage: once it is checked, what is usable of it is recorded part by part, each in a
transaction of its own with the note that it was. It can be stopped, and a worker that dies leaves nothing half done."""

from __future__ import annotations

import tempfile
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import partial
from pathlib import Path
from typing import cast

from sqlalchemy import Engine, delete, select, update
from sqlalchemy.orm import Session, sessionmaker

from calm_tariff.core.lifecycles import USAGE_FILE, move
from calm_tariff.formats import outside_calls
from calm_tariff.formats.outside_calls import Layout, Part
from calm_tariff.formats.values import read
from calm_tariff.services.base import auditing, jobs, retrying
from calm_tariff.services.base.context import Context
from calm_tariff.services.serve.elsewhere import checking, parts, places, recording, sorting
from calm_tariff.services.serve.elsewhere.files import subject
from calm_tariff.services.serve.elsewhere.placing import Placed, Places
from calm_tariff.services.serve.elsewhere.recording import Prepared, Recorded
from calm_tariff.services.serve.elsewhere.sorting import Unusable
from calm_tariff.store.serve.file_loading import sending
from calm_tariff.store.serve.outside_usage import UsageFile, UsageFilePart

# So many parts are recorded before others have their turn.
PARTS = 25
# A job of the schedule that tells what months come to (services.settle.periods.reckoning): calls of the past were
# recorded.
RECKON_MONTHS = "reckon what months come to"


class _Outdated(Exception):
    """What calls are placed by has changed meanwhile, or others have recorded calls of the same sources."""


def go_on(ctx: Context, usage_file_id: int) -> datetime | None:
    """Go on with a file; returns when to go on again, if there is more."""
    with ctx.transaction() as session:
        found = session.get(UsageFile, usage_file_id)
        stage = found.stage if found else ""
    if stage == "checking":
        checking.check(ctx, usage_file_id)
    return ctx.now if stage == "recording" and _record(ctx, usage_file_id) else None


def _record(ctx: Context, usage_file_id: int) -> bool:
    """Record the next parts: while one is sent the next is made ready. Whether there is more to do."""
    with ctx.transaction() as session:
        waiting = select(UsageFilePart.nth).where(UsageFilePart.file_id == usage_file_id)
        left = list(session.scalars(waiting.order_by(UsageFilePart.nth)))
        layout = read(Layout, session.get_one(UsageFile, usage_file_id).layout)
        database = cast(Engine, session.get_bind())
    with tempfile.TemporaryDirectory() as folder, sending(database) as by_file, ThreadPoolExecutor(1) as sender:
        sessions = sessionmaker(by_file, expire_on_commit=False)
        going = _Going(replace(ctx, sessions=sessions), usage_file_id, layout, Path(folder))
        under_way: Future[None] | None = None
        for nth in left[:PARTS]:
            made = going.made_ready(nth)
            if under_way is not None:
                under_way.result()
            if made is None:
                continue  # done by another
            if going.over:
                return False
            under_way = sender.submit(going.write, made)
        if under_way is not None:
            under_way.result()
        if going.over:
            return False
    if len(left) > PARTS:
        return True
    _end(ctx, usage_file_id)
    return False


@dataclass(slots=True)
class _MadeReady:
    """A part on its way: its calls, made ready to be loaded where none of them is known, and the rows that are of no
    use."""

    part: Part
    nth: int
    places: Places
    prepared: Prepared | None
    calls: list[Placed] = field(default_factory=list)
    unusable: list[Unusable] = field(default_factory=list)

    @property
    def take(self) -> Callable[[Placed], None]:
        """What takes its calls in."""
        return self.calls.append if self.prepared is None else self.prepared.add

    @property
    def sources(self) -> set[str]:
        """The sources of its calls."""
        return {placed.call.source for placed in self.calls} if self.prepared is None else self.prepared.sources

    @property
    def subscriptions(self) -> set[int]:
        """The subscriptions whose calls they are."""
        if self.prepared is not None:
            return self.prepared.subscriptions
        return {placed.place.grant.subscription_id for placed in self.calls}


@dataclass(slots=True)
class _Going:
    """The recording of a file, over connections that may send files."""

    ctx: Context
    usage_file_id: int
    layout: Layout
    folder: Path
    over: bool = False
    places: Places | None = None

    def made_ready(self, nth: int) -> _MadeReady | None:
        """A part's calls, to be written; None where it is done."""
        with self.ctx.transaction() as session:
            found = session.get(UsageFilePart, (self.usage_file_id, nth))
            if found is None:
                return None
            # Whoever writes may find them outdated while this goes on.
            placed_by = self.places
            if placed_by is None:
                placed_by = self.places = places.now(session, self.ctx)
            part, fresh = parts.unpacked(found), found.fresh
        ready = _MadeReady(part, nth, placed_by, Prepared(self.folder / f"part-{nth}") if fresh else None)
        ready.unusable = sorting.sort(outside_calls.rows(part, self.layout), placed_by, ready.take)
        return ready

    def write(self, made: _MadeReady) -> None:
        """Record a part, once."""
        while True:
            try:
                retrying.again(partial(self._write, made))
                return
            except _Outdated:
                self.places = None
                again = self.made_ready(made.nth)
                if again is None:
                    return
                made = again

    def _write(self, made: _MadeReady) -> None:
        ctx, file_id = self.ctx, self.usage_file_id
        crossed = False
        with ctx.transaction() as session:
            held = parts.held_at(session, file_id, "recording")
            this = (UsageFilePart.file_id == file_id) & (UsageFilePart.nth == made.nth)
            if held is None:
                self.over = True
                return
            fresh = session.scalar(select(UsageFilePart.fresh).where(this))
            if fresh is None:
                return
            before = recording.turn(session, ctx, made.sources, file_id)
            if not places.unchanged(session, made.places) or (made.prepared is not None and not fresh):
                raise _Outdated
            crossed = any(last not in (held.sources.get(source, 0), file_id) for source, last in before.items())
            if crossed:
                # From now on every part is held against what is recorded.
                session.execute(update(UsageFilePart).where(UsageFilePart.file_id == file_id).values(fresh=False))
                held.sources = {**held.sources, **dict.fromkeys(before, file_id)}
            else:
                self._keep(session, held, made)
                session.execute(delete(UsageFilePart).where(this))
        if crossed:
            raise _Outdated

    def _keep(self, session: Session, held: UsageFile, made: _MadeReady) -> None:
        done = Recorded()
        if made.prepared is None:
            done = recording.record(session, self.ctx, made.calls, held.id)
        elif made.sources:
            done = made.prepared.load(session, held.id)
        recording.end_trials(session, self.ctx, made.places, made.subscriptions)
        held.recorded += done.new
        held.known += done.known
        held.differing += done.differing
        held.unusable += sorting.keep(session, held.id, made.part, made.unusable)
        held.parts_done += 1


def _end(ctx: Context, usage_file_id: int) -> None:
    with ctx.transaction() as session:
        held = parts.held_at(session, usage_file_id, "recording")
        if held is None:
            return
        held.stage, held.touched_at = move(USAGE_FILE, "the file", held.stage, "done"), ctx.now
        note_recorded(session, ctx, held)
        jobs.soon(session, ctx, RECKON_MONTHS)


def note_recorded(session: Session, ctx: Context, of: UsageFile) -> None:
    """Have the record say what came of a file."""
    after = {"calls": of.recorded, "known": of.known, "differing": of.differing, "not used": of.unusable}
    auditing.note(session, ctx, "recorded usage from elsewhere", subject(of), after=after)
