"""Throwing away recorded calls that lie further back than the provider keeps them: month by month, from the oldest, and
none of a month that is not charged. What was counted and charged of them stays."""

from __future__ import annotations

from datetime import date

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.periods import day_start, local_day, month_of, month_step
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context, provider_of, zone_of
from calm_tariff.store.base.locking import locked
from calm_tariff.store.base.provider import Provider
from calm_tariff.store.serve import call_queries
from calm_tariff.store.settle.money_documents import ChargeRun, Invoice

AT_ONCE = 2000


def forget_calls(ctx: Context) -> int:
    """Throw away the calls of months further back than is kept; how many there were."""
    with ctx.transaction() as session:
        until = _until(session, ctx)
        where = zone_of(session)
    if until is None:
        return 0
    gone = 0
    while True:  # so many at a time, so that nothing waits long for the rows
        with ctx.transaction() as session:
            some = call_queries.forget_calls(session, day_start(until, where), AT_ONCE)
        gone += some
        if some < AT_ONCE:
            break
    with ctx.transaction() as session:
        provider = locked(session, Provider, provider_of(session).id)
        assert provider is not None
        before, provider.calls_from = provider.calls_from, until
        subject = ("provider", provider.id, provider.name)
        auditing.note(
            session,
            ctx,
            "threw calls away",
            subject,
            before={"calls from": str(before) if before else None},
            after={"calls from": str(until), "calls": gone},
        )
    return gone


def _until(session: Session, ctx: Context) -> date | None:
    """The day before which calls go; None where none do."""
    provider, where = provider_of(session), zone_of(session)
    oldest = call_queries.oldest(session)
    if not provider.call_months or oldest is None:
        return None
    kept = month_step(month_of(local_day(ctx.now_us, where)).start, -provider.call_months)
    first = month = month_of(local_day(oldest, where)).start
    while month < kept and _is_charged(session, month):
        month = month_step(month, 1)
    return month if month > first else None


def _is_charged(session: Session, month: date) -> bool:
    """Whether a month was charged, and all of it issued."""
    run = select(ChargeRun.id).where(ChargeRun.period_start == month).limit(1)
    draft = select(Invoice.id).where(Invoice.period_start == month, Invoice.state == "draft").limit(1)
    return session.scalar(run) is not None and session.scalar(draft) is None
