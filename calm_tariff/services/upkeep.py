"""What must happen as time passes: terms that begin, partitions for months to come, one leader."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime

from sqlalchemy import func, select, text

from calm_tariff.core.periods import local_day, month_of, month_step
from calm_tariff.services import overrides, stamps
from calm_tariff.services.context import Context
from calm_tariff.store import partitions
from calm_tariff.store.admission import Stay


@contextmanager
def leading(ctx: Context) -> Iterator[bool]:
    """Whether this worker leads its installation, for as long as the block runs (a database lock)."""
    with ctx.sessions() as session:
        won = session.scalar(text("SELECT GET_LOCK(CONCAT('calm-worker-', DATABASE()), 0)")) == 1
        try:
            yield won
        finally:
            if won:
                session.execute(text("SELECT RELEASE_LOCK(CONCAT('calm-worker-', DATABASE()))"))


def begin_terms(ctx: Context, since: datetime) -> int:
    """Tell the gateways where a stay or an override has begun or ended since a moment; returns how many."""
    with ctx.transaction() as session:
        now = ctx.now
        changed = session.scalar(
            select(func.count()).where(
                ((Stay.start_at > since) & (Stay.start_at <= now)) | ((Stay.end_at > since) & (Stay.end_at <= now))
            )
        )
        changed = (changed or 0) + overrides.ended_between(session, since, now)
        if changed:
            stamps.touch(session, ctx)
        return changed


def prepare_partitions(ctx: Context, months: int = 3) -> list[str]:
    """Have partitions of recorded calls ready for the months to come; returns those made."""
    with ctx.transaction() as session:
        first = month_of(local_day(ctx.now_us, partitions.UTC_ZONE)).start
        return partitions.ensure(session, [month_step(first, n) for n in range(months + 1)])
