"""What must happen as time passes: what is over is thrown away."""

from __future__ import annotations

from calm_tariff.core.periods import DAY
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.store.serve import call_queries, quota_queries

AT_ONCE = 2000


def forget_counts(ctx: Context) -> None:
    """Throw away what quotas counted in windows that are long over."""
    with ctx.transaction() as session:
        quota_queries.forget(session, ctx.now_us)


def forget_bodies(ctx: Context) -> int:
    """Throw away the beginnings of bodies of the sandbox that were kept for as long as the provider's settings say; how
    many calls they were of."""
    with ctx.transaction() as session:
        kept = provider_of(session).body_days * DAY
    gone = 0
    while True:  # so many at a time, so that nothing waits long for the rows
        with ctx.transaction() as session:
            some = call_queries.forget_bodies(session, ctx.now_us - kept, AT_ONCE)
        gone += some
        if some < AT_ONCE:
            return gone
