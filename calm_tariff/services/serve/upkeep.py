"""What must happen as time passes: what is over is thrown away."""

from __future__ import annotations

from calm_tariff.core.periods import DAY
from calm_tariff.services.base.context import Context
from calm_tariff.store.serve import call_queries, quota_queries

# For so long bodies of the sandbox are kept.
BODIES_KEPT = 7 * DAY
AT_ONCE = 2000


def forget_counts(ctx: Context) -> None:
    """Throw away what quotas counted in windows that are long over."""
    with ctx.transaction() as session:
        quota_queries.forget(session, ctx.now_us)


def forget_bodies(ctx: Context) -> int:
    """Throw away the beginnings of bodies that were kept for so long; how many calls they were of."""
    gone = 0
    while True:  # so many at a time, so that nothing waits long for the rows
        with ctx.transaction() as session:
            some = call_queries.forget_bodies(session, ctx.now_us - BODIES_KEPT, AT_ONCE)
        gone += some
        if some < AT_ONCE:
            return gone
