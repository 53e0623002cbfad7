"""Work that is done later: written in the transaction that causes it, claimed by one who is free, tried again until it
is done, and given up after so many tries, to be shown to a person.

A job may be done twice, should its worker die between doing it and saying so: whatever does one must not mind.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import delete, func, or_, select, update
from sqlalchemy.dialects.mysql import Insert, insert
from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound
from calm_tariff.core.names import cut
from calm_tariff.core.retries import pause
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.base.jobs import Job as Stored
from calm_tariff.store.base.locking import locked
from calm_tariff.store.base.paging import Page, PageQuery, page

# Whoever claims a job has so long to do it, as a rule; after that it is taken for dead, and another does it.
LEASE = timedelta(minutes=1)
# A claim holds for so long, and is renewed while the job goes on: whoever dies holds it up no longer.
CLAIM = timedelta(minutes=1)
LONGEST_ERROR = 2_000
_SCHEDULE = "schedule"


@dataclass(frozen=True, slots=True, kw_only=True)
class Job:
    """A job that was claimed: what is to be done, and the how many-th attempt this is."""

    id: int
    kind: str
    arguments: dict[str, Any]
    attempts: int
    edition: int


@dataclass(frozen=True, slots=True)
class JobView:
    """A job that failed, as people see it. `given_up`: it is not tried again by itself."""

    id: int
    kind: str
    about: str
    attempts: int
    last_error: str
    written_at: datetime
    run_at: datetime
    given_up: bool


def write(
    session: Session,
    ctx: Context,
    kind: str,
    about: str,
    arguments: dict[str, Any],
    *,
    subject: str | None = None,
    run_at: datetime | None = None,
) -> None:
    """Ask for a job, in the transaction of what causes it; now, unless `run_at` says when. Where there is one of that
    kind and subject already, it is brought forward, with all its tries, and done once more should it be under way."""
    made = _asked(ctx, kind, about, arguments, subject=subject, run_at=run_at)
    session.execute(
        made.on_duplicate_key_update(
            run_at=func.least(Stored.run_at, made.inserted.run_at),
            attempts=0,
            edition=Stored.edition + 1,
            given_up_at=None,
        )
    )


def bring_forward(session: Session, ctx: Context, kind: str, subject: str) -> None:
    """Have a job that waits for its moment done now; one that was given up stays so."""
    waiting = (Stored.kind == kind) & (Stored.key == subject) & (Stored.run_at > ctx.now) & (Stored.attempts == 0)
    session.execute(update(Stored).where(waiting).values(run_at=ctx.now))


def soon(session: Session, ctx: Context, kind: str) -> None:
    """Have a job of the schedule done now, and not when it would be its time; once more should it be under way, for it
    may not have seen what is done here. One that failed keeps its pause."""
    asked = {"run_at": func.if_(Stored.attempts > 0, Stored.run_at, func.least(Stored.run_at, ctx.now))}
    mine = update(Stored).where(Stored.kind == kind, Stored.key == _SCHEDULE)
    session.execute(mine.values(edition=Stored.edition + 1, **asked))


def schedule(ctx: Context, kinds: Collection[str]) -> None:
    """Have a job of each of these kinds, which are done again and again."""
    with ctx.transaction() as session:
        for kind in sorted(kinds):
            see_to(session, ctx, kind, kind, {}, subject=_SCHEDULE)


def unschedule(ctx: Context, kinds: Collection[str]) -> None:
    """Have none of these kinds done again and again until somebody schedules them; one that is under way is
    finished."""
    with ctx.transaction() as session:
        for kind in sorted(kinds):
            forget(session, kind, _SCHEDULE)


def see_to(session: Session, ctx: Context, kind: str, about: str, arguments: dict[str, Any], *, subject: str) -> None:
    """Have a job of a kind and subject: where there is one already it stays as it is, with its tries and its pause."""
    made = _asked(ctx, kind, about, arguments, subject=subject)
    session.execute(made.prefix_with("IGNORE"))


def of(session: Session, kind: str, subjects: Collection[str]) -> dict[str, JobView]:
    """The jobs of a kind there are for some subjects."""
    query = select(Stored).where(Stored.kind == kind, Stored.key.in_(subjects))
    return {job.key or "": _view(job) for job in session.scalars(query)}


def forget(session: Session, kind: str, subject: str) -> None:
    """Have a job no more; one that is under way is finished."""
    session.execute(delete(Stored).where(Stored.kind == kind, Stored.key == subject))


def claim(ctx: Context, leases: Mapping[str, timedelta]) -> Job | None:
    """Take the job that has been due longest, of the kinds there is a lease for, which says how long others pass over
    it at most, as long as the claim is renewed; None where none is due."""
    query = (
        select(Stored)
        .where(
            Stored.given_up_at.is_(None),
            Stored.run_at <= ctx.now,
            Stored.kind.in_(leases),
            or_(Stored.claimed_until.is_(None), Stored.claimed_until <= ctx.now),
        )
        .order_by(Stored.run_at, Stored.id)
        .limit(1)
        .with_for_update(skip_locked=True)
    )
    with ctx.transaction() as session:
        found = session.scalar(query)
        if found is None:
            return None
        found.attempts += 1
        found.claimed_until = ctx.now + min(leases[found.kind], CLAIM)
        return Job(
            id=found.id,
            kind=found.kind,
            arguments=dict(found.arguments),
            attempts=found.attempts,
            edition=found.edition,
        )


def renew(ctx: Context, ids: Collection[int], now: datetime) -> None:
    """Claims of jobs that went on at an instant hold on from there."""
    with ctx.transaction() as session:
        going = Stored.id.in_(ids) & Stored.claimed_until.is_not(None)
        session.execute(update(Stored).where(going).values(claimed_until=now + CLAIM))


def done(ctx: Context, job: Job) -> None:
    """A job is done. One that was asked for again meanwhile is done once more."""
    with ctx.transaction() as session:
        same = delete(Stored).where(Stored.id == job.id, Stored.edition == job.edition)
        if not session.execute(same).rowcount:  # type: ignore[attr-defined]
            _release(session, job, attempts=0, last_error=None)


def again(ctx: Context, job: Job, run_at: datetime) -> None:
    """A job went well and is to be done again, at that moment or whenever it was asked for meanwhile."""
    with ctx.transaction() as session:
        asked = Stored.edition != job.edition
        at = func.if_(asked, func.least(Stored.run_at, run_at), run_at)
        _release(session, job, attempts=0, last_error=None, run_at=at)


def failed(ctx: Context, job: Job, error: str, tries: int | None, chance: float) -> bool:
    """A job failed, and is tried again after a pause; after so many tries it is given up, which is what is returned.
    With `tries` of None it never is."""
    over = tries is not None and job.attempts >= tries
    with ctx.transaction() as session:
        words = error[:LONGEST_ERROR]
        if over:
            _release(session, job, last_error=words, given_up_at=ctx.now)
        else:
            _release(session, job, last_error=words, run_at=ctx.now + pause(job.attempts, chance))
    return over


def troubled(ctx: Context, wanted: PageQuery) -> Page[JobView]:
    """A page of the jobs that failed: those given up, and those tried again. Words narrow it to what they are about."""
    ctx.actor.must_be(*ROLES)
    query = select(Stored).where(Stored.last_error.is_not(None))
    if wanted.words:
        words = (c.contains(wanted.words, autoescape=True) for c in (Stored.about, Stored.kind))
        query = query.where(or_(*words))
    with ctx.reading() as session:
        found = page(session, query, Stored.id, {"run": Stored.run_at}, wanted)
        return replace(found, rows=[_view(job) for job in found.rows])


def given_up(session: Session) -> int:
    """How many jobs were given up."""
    return session.scalar(select(func.count()).where(Stored.given_up_at.is_not(None))) or 0


def try_again(ctx: Context, job_id: int) -> JobView:
    """Have a job that failed tried again at once, as often as at first. Raises `NotFound` where it is done or gone."""
    ctx.actor.must_be("operations", "product manager")
    with ctx.transaction() as session:
        job = locked(session, Stored, job_id)
        if job is None or job.last_error is None:
            raise NotFound("there is no such job any more; it may be done", str(job_id))
        job.given_up_at, job.attempts, job.run_at = None, 0, ctx.now
        job.claimed_until = None
        auditing.note(session, ctx, "had a job tried again", ("job", job.id, f"{job.kind}: {job.about}"))
        return _view(job)


def _asked(
    ctx: Context,
    kind: str,
    about: str,
    arguments: dict[str, Any],
    *,
    subject: str | None,
    run_at: datetime | None = None,
) -> Insert:
    """What asks for a job."""
    return insert(Stored).values(
        kind=kind,
        key=subject,
        about=cut(about),
        arguments=arguments,
        written_at=ctx.now,
        run_at=run_at or ctx.now,
        attempts=0,
        edition=1,
    )


def _release(session: Session, job: Job, **values: Any) -> None:
    session.execute(update(Stored).where(Stored.id == job.id).values(claimed_until=None, **values))


def _view(job: Stored) -> JobView:
    return JobView(
        id=job.id,
        kind=job.kind,
        about=job.about,
        attempts=job.attempts,
        last_error=job.last_error or "",
        written_at=job.written_at,
        run_at=job.run_at,
        given_up=job.given_up_at is not None,
    )
