"""What must happen as time passes: what is over is thrown away."""

from __future__ import annotations

from calm_tariff.services.base.context import Context
from calm_tariff.store.serve import quota_queries


def forget_counts(ctx: Context) -> None:
    """Throw away what quotas counted in windows that are long over."""
    with ctx.transaction() as session:
        quota_queries.forget(session, ctx.now_us)
