"""Looking through the books: by a job, daily or when somebody asks; what each check came to is kept, with what differs.

Source: docs/arithmetic.md, section 7.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import delete, insert, select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.books.proof import CHECKS, Difference, Proof, Units
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import BOOKS_AUDIT, move
from calm_tariff.services.base import auditing, jobs
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.settle.books import accounts, charged, documents, handoff, journal, narrowing, recorded
from calm_tariff.services.settle.books.looking import Looking, looking
from calm_tariff.services.settle.books.narrowing import CameOf
from calm_tariff.services.settle.books.recorded import Key, Recorded
from calm_tariff.store.base.locking import locked
from calm_tariff.store.settle.books import BookDifference, BooksAudit, BookSum

LOOK_THROUGH = "look through the books"
DAILY = "look through the books every day"
THE_SCHEDULE = "the schedule"
# So many differences of one audit are narrowed down to the call and kept, and audits are kept for so long.
MOST, KEPT = 500, timedelta(days=90)
# So many sums are written at a time.
AT_ONCE = 5000


@dataclass(frozen=True, slots=True, kw_only=True)
class Found:
    """What came of looking through the books: each check, with what differs, where units of each period are, and what
    became of its calls."""

    at: datetime
    proofs: tuple[Proof, ...]
    units: dict[Key, Units]
    calls: list[dict[str, Any]]
    narrowed: list[tuple[Difference, list[CameOf]]]

    @property
    def differences(self) -> list[Difference]:
        """All that differs."""
        return [each for proof in self.proofs for each in proof.differences]


def begin(ctx: Context) -> int:
    """Have the books looked through; the id of the audit. Raises `Conflict` while they are."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        if _running(session) is not None:
            raise Conflict("are being looked through already", "the books")
        made = _begun(session, ctx, ctx.actor.name)
        subject = Thing("books", made.id, "the books")
        auditing.note(session, ctx, "had the books looked through", subject)
        jobs.write(session, ctx, LOOK_THROUGH, "the books", {"audit": made.id}, subject=str(made.id))
        return made.id


def stop(ctx: Context, audit_id: int) -> None:
    """Look no further. Raises `NotFound`, or `Conflict` where it is over."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        audit = locked(session, BooksAudit, audit_id)
        if audit is None:
            raise NotFound("there is no such audit", str(audit_id))
        audit.state, audit.ended_at = move(BOOKS_AUDIT, "the audit", audit.state, "stopped"), ctx.now


def daily(ctx: Context) -> None:
    """Look through the books, or go on where somebody began to."""
    with ctx.transaction() as session:
        audit_id = _running(session) or _begun(session, ctx, THE_SCHEDULE).id
    go_on(ctx, audit_id)


def go_on(ctx: Context, audit_id: int) -> bool:
    """Look through them for an audit, from the beginning, however often; whether it is done now."""
    with ctx.transaction() as session:
        audit = locked(session, BooksAudit, audit_id)
        if audit is None or audit.state != "running":
            return False
        audit.done = 0
    found = None
    for done, step in enumerate(_steps(ctx)):
        found = step
        if not _went_on(ctx, audit_id, done):
            return False
    assert isinstance(found, Found)
    return _keep(ctx, audit_id, found)


def look_through(ctx: Context) -> Found:
    """Look through the books now, and keep nothing of it."""
    ctx.actor.must_be(*ROLES)
    *_, found = _steps(ctx)
    assert isinstance(found, Found)
    return found


def forget(ctx: Context) -> None:
    """Forget what audits found long ago; the last one that was done stays."""
    with ctx.transaction() as session:
        last = last_done(session)
        query = select(BooksAudit.id).where(BooksAudit.asked_at < ctx.now - KEPT, BooksAudit.state != "running")
        old = [each for each in session.scalars(query) if each != last]
        for table in (BookSum, BookDifference):
            session.execute(delete(table).where(table.audit_id.in_(old)))
        session.execute(delete(BooksAudit).where(BooksAudit.id.in_(old)))


def _steps(ctx: Context) -> Iterator[Proof | Found]:
    """Check by check, at one moment; last what was found of them all."""
    with looking(ctx) as of:
        at, proofs = ctx.now, []
        read = recorded.calls(of)
        units = charged.units(of, read)
        checks: Sequence[Callable[[], Proof]] = (
            lambda: recorded.verdicts_proof(of, read),
            lambda: recorded.units_proof(of, read),
            lambda: charged.proof(units),
            lambda: documents.proof(of),
            lambda: documents.numbers_proof(of),
            lambda: accounts.proof(of),
            lambda: accounts.money_proof(of),
            lambda: journal.proof(of),
            lambda: handoff.proof(of),
        )
        for check in checks:
            proofs.append(check())
            yield proofs[-1]
        every = [each for proof in proofs for each in proof.differences]
        yield Found(
            at=at,
            proofs=tuple(proofs),
            units=units,
            calls=_calls(of, read),
            narrowed=[(each, narrowing.came_of(of, each)) for each in every[:MOST]],
        )


def _calls(of: Looking, read: Recorded) -> list[dict[str, Any]]:
    """What became of the calls of each period; nothing of those whose calls are not kept."""
    kept = [start for start, at in zip(of.periods, of.starts, strict=False) if of.is_kept(at)]
    return [{"period": str(start), **asdict(read.tallies[start])} for start in kept]


def _begun(session: Session, ctx: Context, by: str) -> BooksAudit:
    made = BooksAudit(state="running", asked_by=by, asked_at=ctx.now, planned=len(CHECKS))
    session.add(made)
    session.flush()
    return made


def _running(session: Session) -> int | None:
    return session.scalar(select(BooksAudit.id).where(BooksAudit.state == "running").limit(1))


def last_done(session: Session) -> int | None:
    """The id of the last audit that was done, if any."""
    query = select(BooksAudit.id).where(BooksAudit.state == "done").order_by(BooksAudit.id.desc())
    return session.scalar(query.limit(1))


def _went_on(ctx: Context, audit_id: int, done: int) -> bool:
    """Whether it is to go on, after so many checks."""
    with ctx.transaction() as session:
        audit = locked(session, BooksAudit, audit_id)
        if audit is None or audit.state != "running":
            return False
        audit.done = done
        return True


def _keep(ctx: Context, audit_id: int, found: Found) -> bool:
    """Keep what was found, in place of where units were by audits before; whether it is done."""
    with ctx.transaction() as session:
        audit = locked(session, BooksAudit, audit_id)
        if audit is None or audit.state != "running":
            return False
        audit.state, audit.ended_at = move(BOOKS_AUDIT, "the audit", audit.state, "done"), ctx.now
        audit.at, audit.done, audit.calls = found.at, audit.planned, found.calls
        audit.proofs = [
            {
                "check": proof.check,
                "compared": proof.compared,
                "sums": [[name, str(amount)] for name, amount in proof.sums],
                "differences": len(proof.differences),
            }
            for proof in found.proofs
        ]
        session.execute(delete(BookSum))
        rows = [_sum(audit_id, key, units) for key, units in found.units.items()]
        for first in range(0, len(rows), AT_ONCE):
            session.execute(insert(BookSum), rows[first : first + AT_ONCE])
        for difference, came_of in found.narrowed:
            session.add(_difference(audit_id, difference, came_of))
        if found.differences:
            subject = Thing("books", audit_id, "the books")
            after = {"differences": len(found.differences), "first": found.differences[0].what}
            auditing.note(session, ctx, "found a difference in the books", subject, after=after)
        return True


def _sum(audit_id: int, key: Key, of: Units) -> dict[str, Any]:
    period, subscription, meter = key
    return {
        "audit_id": audit_id,
        "period_start": period,
        "subscription_id": subscription,
        "meter_id": meter,
        "recorded": of.recorded,
        "charged": of.charged,
        "nothing_due": of.nothing_due,
        "free": of.free,
        "running": of.running,
        "late": of.late,
        "outside": of.outside,
        "agrees": of.agree,
    }


def _difference(audit_id: int, of: Difference, came_of: Sequence[CameOf]) -> BookDifference:
    return BookDifference(
        audit_id=audit_id,
        check=of.check,
        what=of.what,
        sums=[[name, str(amount)] for name, amount in of.sums],
        came_of=narrowing.told(came_of),
        period_start=of.period,
        subscription_id=of.subscription_id,
        meter_id=of.meter_id,
        consumer_id=of.consumer_id,
        document_id=of.document_id,
    )
