"""Charge runs: drafting a month's invoices, and issuing them. A run goes on by itself, part by part, each in a
transaction of its own: it can be left, stopped and gone on with, and whatever dies meanwhile, it comes to the same."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.lifecycles import CHARGE_RUN, move
from calm_tariff.core.periods import Period, local_day, month_of, month_starting, period_before
from calm_tariff.services.base import auditing, idempotency, jobs
from calm_tariff.services.base.context import ROLES, SYSTEM, Actor, Context, provider_of, zone_of
from calm_tariff.services.settle.documents import drafting, issuing
from calm_tariff.services.settle.periods import keeping_drafts, reckoning, reviewing
from calm_tariff.store.base.locking import all_locked, locked
from calm_tariff.store.settle.money_documents import ChargeRun, DraftReview, Invoice

GO_ON = "go on with a charge run"
# Consumers that are drafted, and drafts that are issued, before the run is looked at again.
DRAFTED_AT_ONCE, ISSUED_AT_ONCE = 500, 40


@dataclass(frozen=True, slots=True, kw_only=True)
class RunView:
    """A charge run: drafting invoices or issuing them (`kind`), how far it is, and what came of it. `left_alone` were
    issued already; `refused` says of which drafts why they were not issued."""

    id: int
    kind: str
    state: str
    period_start: date
    started_at: datetime
    started_by: str
    ended_at: datetime | None
    planned: int
    done: int
    invoices: int
    total: Decimal
    left_alone: int
    nothing_due: int
    refused: list[RefusedDraft]


@dataclass(frozen=True, slots=True, kw_only=True)
class RefusedDraft:
    """A draft that was not issued, and why."""

    invoice_id: int
    consumer: str
    why: str


def begin(ctx: Context, start: date, key: str | None = None) -> RunView:
    """Have a period's usage turned into draft invoices, one for each consumer with a stay in it, or with something late
    or adjusted to be charged with it.

    Drafts of an earlier run are computed anew, and go where nothing is charged any more; issued invoices are left
    alone. The running period can be drafted too, by what is recorded so far, but not issued. The same idempotency key
    begins one run. Raises `Conflict` for a period that has not begun, or is being charged.
    """
    ctx.actor.must_be("finance")
    period = month_starting(start)
    with ctx.transaction() as session:
        known = idempotency.answered(session, ctx, key, f"charge run {start}")
        if known is not None:
            return _view(session.get_one(ChargeRun, known["run_id"]))
        if period.start > month_of(local_day(ctx.now_us, zone_of(session))).start:
            raise Conflict(f"{start:%B %Y} has not begun", "period")
        run = _begun(session, ctx, period)
        idempotency.remember(session, ctx, key, {"run_id": run.id})
        return _view(run)


def run(ctx: Context, start: date, key: str | None = None) -> RunView:
    """The same, done here and now."""
    begun = begin(ctx, start, key)
    go_on(ctx, begun.id)
    return one(ctx, begun.id)


def begin_issuing(ctx: Context, start: date, key: str | None = None) -> RunView:
    """Have a month's drafts issued, but those that are held back. Raises `Conflict` where there is none, the month has
    not ended, or it is being charged."""
    ctx.actor.must_be("finance")
    period = month_starting(start)
    with ctx.transaction() as session:
        known = idempotency.answered(session, ctx, key, f"issue {start}")
        if known is not None:
            return _view(session.get_one(ChargeRun, known["run_id"]))
        if period.end > local_day(ctx.now_us, zone_of(session)):
            raise Conflict(f"its period runs until {period.end:%-d %B}", f"{start:%B %Y}")
        query = (
            select(Invoice.id)
            .outerjoin(DraftReview, DraftReview.document_id == Invoice.id)
            .where(Invoice.period_start == period.start, Invoice.state == "draft")
            .where((DraftReview.held_by == "") | DraftReview.held_by.is_(None))
        )
        drafts = list(session.scalars(query.order_by(Invoice.id)))
        if not drafts:
            raise Conflict("has no draft to be issued", f"{start:%B %Y}")
        run = _made(session, ctx, period, "issue", planned=drafts)
        idempotency.remember(session, ctx, key, {"run_id": run.id})
        return _view(run)


def when_it_is_time(ctx: Context) -> None:
    """Draft the last month by itself, so many days after its end as the house says, once, if nobody has."""
    with ctx.transaction() as session:
        after = provider_of(session).charge_after_days
        if after is None:
            return
        today = local_day(ctx.now_us, zone_of(session))
        last = period_before(month_of(today))
        charged = select(ChargeRun.id).where(ChargeRun.period_start == last.start).limit(1)
        if today < last.end + timedelta(days=after) or session.scalar(charged) is not None:
            return
        _begun(session, ctx.acting(SYSTEM), last)


def _begun(session: Session, ctx: Context, period: Period) -> ChargeRun:
    planned = drafting.planned(session, period)
    late_of = [start.isoformat() for start in planned.late_of]
    return _made(session, ctx, period, "draft", planned=list(planned.consumers), late_of=late_of)


def _made(session: Session, ctx: Context, period: Period, kind: str, planned: list[int], **more: Any) -> ChargeRun:
    _refuse_going(session, period.start)
    made = ChargeRun(
        kind=kind,
        state="running",
        period_start=period.start,
        period_end=period.end,
        started_at=ctx.now,
        started_by=ctx.actor.name,
        identity=ctx.actor.identity,
        planned=planned,
        **{"late_of": [], **more},
    )
    session.add(made)
    session.flush()
    _ask(session, ctx, made)
    return made


def _refuse_going(session: Session, start: date) -> None:
    """Raise `Conflict` where a period is being charged. Of two that begin at once, the database refuses the second."""
    going = select(ChargeRun.id).where(ChargeRun.period_start == start, ChargeRun.state == "running")
    if session.scalar(going.limit(1)) is not None:
        raise Conflict("is being charged: wait for it, or stop it", f"{start:%B %Y}")


def _ask(session: Session, ctx: Context, run: ChargeRun) -> None:
    jobs.write(session, ctx, GO_ON, _called(run), {"run": run.id}, subject=str(run.id))


def go_on(ctx: Context, run_id: int) -> None:
    """Go on with a run until it is done or stopped. It may be gone on with by several at once."""
    while _part(ctx, run_id):
        pass


def _part(ctx: Context, run_id: int) -> bool:
    """Do the next part of a run; whether there may be more to do."""
    with ctx.transaction() as session:
        kind = session.get_one(ChargeRun, run_id).kind
    return _issue_part(ctx, run_id) if kind == "issue" else _draft_part(ctx, run_id)


def _draft_part(ctx: Context, run_id: int) -> bool:
    with ctx.transaction() as session:
        run = _held(session, run_id)
        if run.state != "running":
            return False
        acting = _acting(ctx, run).joining(session)
        part = run.planned[run.done : run.done + DRAFTED_AT_ONCE]
        _draft(session, acting, run, part)
        run.done += len(part)
        if run.done < len(run.planned):
            return True
        _clear(session, run)
        _ended(session, acting, run, "made a charge run")
        return False


def _draft(session: Session, ctx: Context, run: ChargeRun, consumers: list[int]) -> None:
    """Draft the invoices of some consumers, with as many statements for all of them as for one."""
    period, provider = Period(run.period_start, run.period_end), provider_of(session)
    before = keeping_drafts.emptied(session, period, consumers)
    issued = {consumer for consumer, was in before.items() if not was.is_draft}
    late_of = [date.fromisoformat(start) for start in run.late_of]
    contents = drafting.contents(session, period, consumers, late_of)
    drafts = [drafting.drafted(session, ctx, each) for each in contents if each.case.consumer_id not in issued]
    ids = keeping_drafts.keep(session, period, run.id, drafts, before)
    reviewed = reviewing.of_drafts(session, period.start, drafts, {c: was.units for c, was in before.items()})
    keeping_drafts.keep_reviews(session, [{**each, "document_id": ids[whose]} for whose, each in reviewed.items()])
    run.left_alone += len(contents) - len(drafts)
    run.invoices += len(drafts)
    run.total += sum((each.sums.total for each in drafts), Decimal(0))
    if run.invoices and provider.charged_at is None:
        provider.charged_at = ctx.now


def _clear(session: Session, run: ChargeRun) -> None:
    """Throw away the drafts of those who are charged nothing any more."""
    query = select(Invoice.id, Invoice.consumer_id).where(
        Invoice.period_start == run.period_start, Invoice.state == "draft"
    )
    planned = set(run.planned)
    gone = [invoice for invoice, consumer in session.execute(query) if consumer not in planned]
    for draft in all_locked(session, Invoice, gone):
        session.delete(draft)


def _issue_part(ctx: Context, run_id: int) -> bool:
    """Issue the next drafts of a run, each in a transaction of its own. One that cannot be issued hinders no other."""
    with ctx.transaction() as session:
        run = session.get_one(ChargeRun, run_id, populate_existing=True)
        if run.state != "running":
            return False
        acting, done, part = _acting(ctx, run), run.done, run.planned[run.done : run.done + ISSUED_AT_ONCE]
    outcomes: list[tuple[int, str | None, str]] = []
    for invoice_id in part:
        try:
            outcomes.append((invoice_id, issuing.one(acting, invoice_id), ""))
        except Conflict as error:
            outcomes.append((invoice_id, None, str(error)))
    with ctx.transaction() as session:
        run = _held(session, run_id)
        if run.done != done:
            return run.state == "running"  # another has gone on with it, and counted these
        _count(session, run, outcomes)
        run.done += len(part)
        if run.state == "running" and run.done >= len(run.planned):
            _ended(session, acting.joining(session), run, "issued the invoices of a month")
        return run.state == "running"


def _count(session: Session, run: ChargeRun, outcomes: list[tuple[int, str | None, str]]) -> None:
    refused = list(run.refused)
    for invoice_id, state, why in outcomes:
        invoice = session.get(Invoice, invoice_id)
        if invoice is None:
            continue
        if why:
            refused.append({"invoice_id": invoice_id, "consumer": invoice.consumer.name, "why": why})
        elif state == "nothing due" or (state is None and invoice.state == "nothing due"):
            run.nothing_due += 1
        elif invoice.state != "draft":
            run.invoices += 1
            run.total += invoice.total
    run.refused = refused


def _ended(session: Session, ctx: Context, run: ChargeRun, action: str) -> None:
    run.state, run.ended_at = move(CHARGE_RUN, "charge run", run.state, "done"), ctx.now
    reckoning.forget(session, ctx)
    after = {"invoices": run.invoices, "total": str(run.total), "left alone": run.left_alone}
    auditing.note(session, ctx, action, ("charge run", run.id, f"{run.period_start:%B %Y}"), after=after)


def stop(ctx: Context, run_id: int) -> RunView:
    """Stop a run: what came of it stays. Raises `NotFound`, or `Conflict` where it is done."""
    return _moved(ctx, run_id, "stopped", "stopped a charge run")


def resume(ctx: Context, run_id: int) -> RunView:
    """Go on with a run that was stopped. Raises `NotFound`, or `Conflict` where it is done, or the period is being
    charged."""
    return _moved(ctx, run_id, "running", "went on with a charge run")


def _moved(ctx: Context, run_id: int, to: str, action: str) -> RunView:
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        run = _held(session, run_id)
        if to == "running":
            _refuse_going(session, run.period_start)
        run.state = move(CHARGE_RUN, "charge run", run.state, to)
        auditing.note(session, ctx, action, ("charge run", run.id, f"{run.period_start:%B %Y}"))
        if to == "running":
            _ask(session, ctx, run)
        return _view(run)


def one(ctx: Context, run_id: int) -> RunView:
    """A run as far as it is. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        found = session.get(ChargeRun, run_id)
        if found is None:
            raise NotFound("there is no such charge run", str(run_id))
        return _view(found)


def of_period(session: Session, start: date) -> list[RunView]:
    """The runs of a period, the latest first."""
    query = select(ChargeRun).where(ChargeRun.period_start == start).order_by(ChargeRun.id.desc())
    return [_view(run) for run in session.scalars(query)]


def _held(session: Session, run_id: int) -> ChargeRun:
    found = locked(session, ChargeRun, run_id)
    if found is None:
        raise NotFound("there is no such charge run", str(run_id))
    return found


def _acting(ctx: Context, run: ChargeRun) -> Context:
    """What a run does is done by whoever began it."""
    return ctx.acting(Actor(name=run.started_by, roles=frozenset({"finance"}), behind=run.identity))


def _called(run: ChargeRun) -> str:
    what = "issuing" if run.kind == "issue" else "charging"
    return f"{what} {run.period_start:%B %Y}"


def _view(run: ChargeRun) -> RunView:
    return RunView(
        id=run.id,
        kind=run.kind,
        state=run.state,
        period_start=run.period_start,
        started_at=run.started_at,
        started_by=run.started_by,
        ended_at=run.ended_at,
        planned=len(run.planned),
        done=run.done,
        invoices=run.invoices,
        total=run.total,
        left_alone=run.left_alone,
        nothing_due=run.nothing_due,
        refused=[RefusedDraft(**each) for each in run.refused],
    )
