"""What must happen as time passes: partitions for months to come, and what is over is thrown away."""

from __future__ import annotations

from calm_tariff.core.periods import local_day, month_of, month_step
from calm_tariff.services.base.context import Context
from calm_tariff.store.serve import partitions, quota_queries


def prepare_partitions(ctx: Context, months: int = 3) -> list[str]:
    """Have partitions of recorded calls ready for the months to come; returns those made."""
    with ctx.transaction() as session:
        first = month_of(local_day(ctx.now_us, partitions.UTC_ZONE)).start
        return partitions.ensure(session, [month_step(first, n) for n in range(months + 1)])


def forget_counts(ctx: Context) -> None:
    """Throw away what quotas counted in windows that are long over."""
    with ctx.transaction() as session:
        quota_queries.forget(session, ctx.now_us)
