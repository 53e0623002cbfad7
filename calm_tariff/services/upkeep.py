"""What must happen as time passes: partitions for months to come, counts of windows long over, one leader."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy import text

from calm_tariff.core.periods import local_day, month_of, month_step
from calm_tariff.services import passwords, sign_up, throttling
from calm_tariff.services.context import Context
from calm_tariff.store import partitions, quota_queries


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


def prepare_partitions(ctx: Context, months: int = 3) -> list[str]:
    """Have partitions of recorded calls ready for the months to come; returns those made."""
    with ctx.transaction() as session:
        first = month_of(local_day(ctx.now_us, partitions.UTC_ZONE)).start
        return partitions.ensure(session, [month_step(first, n) for n in range(months + 1)])


def forget_counts(ctx: Context) -> None:
    """Throw away what quotas counted in windows that are long over, attempts to sign in likewise, and letters nobody
    answered in time."""
    with ctx.transaction() as session:
        quota_queries.forget(session, ctx.now_us)
    throttling.forget(ctx)
    sign_up.forget(ctx)
    passwords.forget(ctx)
