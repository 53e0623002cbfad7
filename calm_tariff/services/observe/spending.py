"""Allowances that are spent, or nearly: told as events, once in each window."""

from __future__ import annotations

from datetime import timedelta
from decimal import Decimal

from sqlalchemy import delete, func, select
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from calm_tariff.core.events import EVERYTHING, wants
from calm_tariff.core.periods import moment_of
from calm_tariff.core.sentences import allowance_reached_in_words
from calm_tariff.services.admit.subscriptions import subject
from calm_tariff.services.base import events
from calm_tariff.services.base.context import SYSTEM, Context
from calm_tariff.services.base.one_by_one import one_by_one
from calm_tariff.services.observe import allowances
from calm_tariff.services.observe.allowances import Held
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.house.endpoints import EventEndpoint
from calm_tariff.store.observe.alerts import AllowanceTold

# What is told at which percent of an allowance.
TOLD_AT = {90: "allowance.nearly_spent", 100: "allowance.spent"}
# For longer than any window is open.
KEPT = timedelta(days=400)


def look(ctx: Context) -> int:
    """Tell of the allowances that stand at 90 or 100 percent now, where some endpoint wants to know; returns of how
    many."""
    with ctx.transaction() as session:
        listening = session.scalars(select(EventEndpoint.wants).where(EventEndpoint.on)).all()
        if not any(EVERYTHING in chosen or wants(chosen, told) for chosen in listening for told in TOLD_AT.values()):
            return 0
        standing = [h for h in allowances.standing_of(session, ctx.now) if h.percent >= min(TOLD_AT)]
    told = one_by_one(standing, lambda held: _told(ctx, held))
    with ctx.transaction() as session:
        session.execute(delete(AllowanceTold).where(AllowanceTold.at < ctx.now - KEPT))
    return told


def _told(ctx: Context, held: Held) -> bool:
    """Tell of one of them, unless that was told; by itself, because whoever writes events keeps others from it."""
    with ctx.transaction() as session:
        new = [percent for percent in TOLD_AT if held.percent >= percent and _is_new(session, ctx, held, percent)]
        if new:  # one that was spent at once was never nearly spent
            _tell(session, ctx, held, max(new))
        return bool(new)


def _is_new(session: Session, ctx: Context, held: Held, percent: int) -> bool:
    seen = {
        "subscription_id": held.subscription_id,
        "allowance": held.quota.name,
        "window_us": held.window[0],
        "percent": percent,
    }
    known = select(func.count()).where(*(getattr(AllowanceTold, name) == value for name, value in seen.items()))
    if session.scalar(known):
        return False
    made = insert(AllowanceTold).values(**seen, at=ctx.now).prefix_with("IGNORE")
    return bool(session.execute(made).rowcount)  # type: ignore[attr-defined]


def _tell(session: Session, ctx: Context, held: Held, percent: int) -> None:
    subscription = session.get_one(Subscription, held.subscription_id)
    detail = {
        "allowance": held.quota.name,
        "percent": percent,
        "used": format(held.used.normalize(), "f"),
        "units": str(held.quota.units),
        "when_spent": held.quota.when_spent,
        "window_start": moment_of(held.window[0]).isoformat(),
        "window_end": moment_of(held.window[1]).isoformat(),
    }
    whose = f"{subscription.application.name} of {subscription.application.consumer.name}"
    said = f"{percent}% of {held.quota.name} of {whose}, on {subscription.plan.product.name} · {subscription.plan.name}"
    words = allowance_reached_in_words(held.used, Decimal(held.quota.units), held.quota.when_spent)
    events.write(session, ctx.acting(SYSTEM), TOLD_AT[percent], subject(subscription), f"{said}: {words}", **detail)
