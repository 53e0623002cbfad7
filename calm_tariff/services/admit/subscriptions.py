"""Subscriptions: how one begins, with or without a trial, and moving to another plan."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from sqlalchemy.orm import Session

from calm_tariff.core import stays
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import SUBSCRIPTION, move
from calm_tariff.core.notices import Kind
from calm_tariff.core.periods import day_start, local_day, moment_of
from calm_tariff.core.terms import PlanTerms, free_units
from calm_tariff.formats.values import read
from calm_tariff.services.admit import first_trials, timelines
from calm_tariff.services.base import auditing, events, jobs, stamps
from calm_tariff.services.base.context import Context, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.products import Plan

END_TRIAL = "end a trial"
TELL_OF_TRIAL_END = "tell of a trial's end"
# So long before it ends, members are told.
TOLD_BEFORE = timedelta(days=3)


def subject(subscription: Subscription) -> Thing:
    """What the record and events call it."""
    application = subscription.application
    return Thing("subscription", subscription.id, application.name, application.consumer_id)


def say_ended(session: Session, ctx: Context, subscription: Subscription) -> None:
    """Tell those who listen that a subscription has ended, where the record tells it as something else."""
    plan, application = subscription.plan, subscription.application
    said = f"The subscription of {application.name} to {plan.product.name} · {plan.name} has ended"
    events.write(session, ctx, "subscription.ended", subject(subscription), said, undone=subscription.undone)


def begin(
    session: Session,
    ctx: Context,
    application_id: int,
    plan: Plan,
    request_id: int | None,
    *,
    free_days: int | None = None,
) -> Subscription:
    """Subscribe an application to a plan's newest revision.

    With a trial, which a consumer has once, the first stay is free and ends on a local midnight, so that no day is half
    a trial. `free_days` are given in its place, to anybody, and charges follow. Raises `Conflict` where the plan is
    nothing but a trial that was had.
    """
    revision = plan.revisions[-1]
    terms = read(PlanTerms, revision.terms)
    consumer_id = session.get_one(Application, application_id).consumer_id
    tried = first_trials.begin(session, ctx, consumer_id, plan, terms, given=free_days)
    made = Subscription(
        application_id=application_id,
        plan_id=plan.id,
        request_id=request_id,
        started_at=ctx.now,
        state="trial" if tried else "active",
    )
    session.add(made)
    session.flush()
    trial = (_trial_end(session, ctx, tried.days), tried.then == "charge") if tried else None
    timelines.keep(session, made, stays.begun(revision.id, ctx.now_us, trial, by_units=free_units(terms) is not None))
    if trial is not None:
        ask_for_end(session, ctx, made.id, moment_of(trial[0]))
        what, arguments = f"the end of the trial of subscription {made.id}", {"subscription": made.id}
        told = moment_of(trial[0]) - TOLD_BEFORE
        if told > ctx.now:
            jobs.write(session, ctx, TELL_OF_TRIAL_END, what, arguments, subject=str(made.id), run_at=told)
    stamps.touch(session, ctx)
    offer = f"{plan.product.name} · {plan.name}"
    said = f"{made.application.name} of {made.application.consumer.name} is subscribed to {offer}"
    events.write(session, ctx, "subscription.started", subject(made), said, state=made.state, offer=offer)
    return made


def move_to(session: Session, ctx: Context, subscription: Subscription, plan: Plan) -> None:
    """Put a subscription on another plan of the product from now on and under nothing else, and tell its members.

    A trial that runs ends with the move. Whoever calls this holds `stamps.SHIPPING`.
    """
    before = subscription.plan
    timelines.keep(session, subscription, stays.moved(timelines.of(subscription), ctx.now_us, plan.revisions[-1].id))
    if subscription.state == "trial":
        subscription.state = move(SUBSCRIPTION, "the subscription", subscription.state, "active")
    say_moved(session, ctx, subscription, before, plan)


def say_moved(session: Session, ctx: Context, subscription: Subscription, before: Plan, plan: Plan) -> None:
    """Record that a subscription goes on under a plan in place of one that is withdrawn, and tell its members."""
    if subscription.plan_id == before.id:
        subscription.plan_id = plan.id
    offer = f"{plan.product.name} · {plan.name}"
    auditing.note(
        session,
        ctx,
        "moved a subscription",
        subject(subscription),
        before={"plan": before.name},
        after={"plan": plan.name},
    )
    fields = {"before": before.name, "product": plan.product.name, "plan": plan.name, "offer": offer}
    tell(session, ctx, subscription, "plan moved", fields)


def tell_of_trial_end(ctx: Context, subscription_id: int) -> bool:
    """Tell the members of a trial that ends in some days what follows it, once; whether they were told now."""
    with ctx.transaction() as session:
        subscription = locked(session, Subscription, subscription_id)
        if subscription is None or subscription.state != "trial" or subscription.end_told:
            return False
        timeline = timelines.of(subscription)
        trial = stays.in_force(timeline, ctx.now_us)
        if trial is None or not trial.trial or trial.end_us is None:
            return False
        subscription.end_told = True
        next_stay = next(
            (s for s in subscription.stays if s.id in {f.id for f in stays.following(timeline, trial)}), None
        )
        plan = next_stay.revision.plan if next_stay else None
        fields = {
            "offer": f"{subscription.plan.product.name} · {subscription.plan.name}",
            "day": f"{local_day(trial.end_us - 1, zone_of(session)):%-d %B %Y}",
            "follows": f"{plan.product.name} · {plan.name}" if plan else "",
        }
        tell(session, ctx, subscription, "trial ends soon", fields)
        return True


def ask_for_end(session: Session, ctx: Context, subscription: int, at: datetime) -> None:
    """Have the end of a trial said at a moment, should it have come by then."""
    what = f"the trial of subscription {subscription}"
    arguments = {"subscription": subscription}
    jobs.write(session, ctx, END_TRIAL, what, arguments, subject=str(subscription), run_at=at)


def tell(session: Session, ctx: Context, subscription: Subscription, kind: Kind, fields: dict[str, Any]) -> None:
    """Tell every member of a subscription's consumer."""
    application = subscription.application
    said = {"application": application.name, **fields}
    notice = Notice(kind=kind, fields=said, page=f"/applications/{application.id}")
    notify(session, ctx, members(subscribers.members_of(session, [application.consumer_id])), notice)


def _trial_end(session: Session, ctx: Context, days: int) -> int:
    where = zone_of(session)
    return day_start(local_day(ctx.now_us, where) + timedelta(days=days), where)
