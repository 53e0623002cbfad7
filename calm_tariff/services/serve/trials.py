"""Trials whose end has passed: it is said, and what follows them is put where it lies."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import stays
from calm_tariff.core.lifecycles import SUBSCRIPTION, move
from calm_tariff.core.periods import moment_of
from calm_tariff.core.stays import Stay, TrialUnits
from calm_tariff.core.terms import PlanTerms, free_units
from calm_tariff.formats.values import read
from calm_tariff.services.admit import timelines
from calm_tariff.services.admit.subscriptions import say_ended, subject, tell
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.one_by_one import one_by_one
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import PlanRevision
from calm_tariff.store.serve import call_queries, usage_queries


def end_trials(ctx: Context) -> int:
    """Say of every trial that its days have passed or its units are used; returns of how many. One of which
    it cannot be said holds up no other."""
    with ctx.transaction() as session:
        running = session.scalars(select(Subscription.id).where(Subscription.state == "trial")).all()
    return one_by_one(running, lambda subscription: end_trial(ctx, subscription) is None)


def end_trial(ctx: Context, subscription_id: int) -> datetime | None:
    """End a trial whose days have passed or whose units are used, and tell its members; or when its days will have
    passed.

    Calls have been decided and charged by its end already: what is done here is to say so.
    """
    with ctx.transaction() as session:
        stamps.hold(session, ctx, stamps.SHIPPING)
        subscription = locked(session, Subscription, subscription_id)
        if subscription is None or subscription.state != "trial":
            return None
        timeline = timelines.of(subscription)
        stay = next((s for s in timeline if s.trial), None)
        if stay is None:
            return None
        terms = read(PlanTerms, session.get_one(PlanRevision, stay.revision_id).terms)
        last = _last_free(session, ctx, subscription.id, stay, free_units(terms))
        if last is not None:
            timeline = stays.spent(timeline, last)  # also where its days have passed meanwhile
        elif stay.end_us is not None and stay.end_us > ctx.now_us:
            return moment_of(stay.end_us)
        timelines.keep(session, subscription, stays.settled(timeline))
        _end(session, ctx, subscription)
        stamps.touch(session, ctx)
        return None


def _last_free(session: Session, ctx: Context, subscription: int, stay: Stay, free: TrialUnits | None) -> int | None:
    """The instant of the call that used the last free unit; None where some are left, or only days count."""
    meter = session.scalar(select(Meter.id).where(Meter.key == free.meter)) if free else None
    if free is None or meter is None:
        return None
    used = usage_queries.units_by_stay(session, stay.start_us, ctx.now_us, [subscription])
    if used.get((stay.id, meter), usage_queries.ZERO) < free.units:
        return None
    return call_queries.last_counted(session, subscription, stay.id, meter) or stay.start_us


def _end(session: Session, ctx: Context, subscription: Subscription) -> None:
    """Say that a trial is over, and what follows it."""
    trial = next(stay for stay in timelines.of(subscription) if stay.trial)
    follows = stays.in_force(timelines.of(subscription), max(ctx.now_us, trial.end_us or 0))
    goes_on = follows is not None
    subscription.state = move(SUBSCRIPTION, "the trial", subscription.state, "active" if goes_on else "ended")
    if follows is None:
        subscription.ended_at = ctx.now
    else:
        subscription.plan_id = next(s for s in subscription.stays if s.id == follows.id).revision.plan_id
    offer = f"{subscription.plan.product.name} · {subscription.plan.name}"
    auditing.note(
        session,
        ctx,
        "ended a trial",
        subject(subscription),
        before={"state": "trial"},
        after={"state": subscription.state},
    )
    if not goes_on:
        say_ended(session, ctx, subscription)
    tell(session, ctx, subscription, "trial over", {"offer": offer, "goes_on": goes_on})
