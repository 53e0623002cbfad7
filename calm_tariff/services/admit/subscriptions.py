"""Subscriptions: how one begins, with or without a trial, and moving to another plan."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from sqlalchemy.orm import Session

from calm_tariff.core import stays
from calm_tariff.core.lifecycles import SUBSCRIPTION, move
from calm_tariff.core.periods import day_start, local_day, moment_of
from calm_tariff.core.terms import PlanTerms, free_units
from calm_tariff.formats.values import read
from calm_tariff.services.admit import timelines
from calm_tariff.services.base import auditing, jobs, stamps
from calm_tariff.services.base.context import Context, zone_of
from calm_tariff.services.base.notices import Kind, Notice, members, notify
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.compose.products import Plan

END_TRIAL = "end a trial"


def begin(session: Session, ctx: Context, application_id: int, plan: Plan, request_id: int | None) -> Subscription:
    """Subscribe an application to a plan's newest revision.

    With a trial, the first stay is free and ends on a local midnight, so that no day is half a trial.
    """
    revision = plan.revisions[-1]
    terms = read(PlanTerms, revision.terms)
    made = Subscription(
        application_id=application_id,
        plan_id=plan.id,
        request_id=request_id,
        started_at=ctx.now,
        state="trial" if terms.trial else "active",
    )
    session.add(made)
    session.flush()
    trial = (_trial_end(session, ctx, terms.trial.days), terms.trial.then == "charge") if terms.trial else None
    timelines.keep(session, made, stays.begun(revision.id, ctx.now_us, trial, by_units=free_units(terms) is not None))
    if trial is not None:
        ask_for_end(session, ctx, made.id, moment_of(trial[0]))
    stamps.touch(session, ctx)
    return made


def move_to(session: Session, ctx: Context, subscription: Subscription, plan: Plan) -> None:
    """Put a subscription on another plan of the product from now on, and tell its members.

    A trial that runs ends with the move. Whoever calls this holds `stamps.SHIPPING`.
    """
    before = subscription.plan
    timelines.keep(session, subscription, stays.moved(timelines.of(subscription), ctx.now_us, plan.revisions[-1].id))
    subscription.plan_id = plan.id
    if subscription.state == "trial":
        subscription.state = move(SUBSCRIPTION, "the subscription", subscription.state, "active")
    offer = f"{plan.product.name} · {plan.name}"
    auditing.note(
        session,
        ctx,
        "moved a subscription",
        ("subscription", subscription.id, subscription.application.name),
        before={"plan": before.name},
        after={"plan": plan.name},
    )
    fields = {"before": before.name, "product": plan.product.name, "plan": plan.name, "offer": offer}
    tell(session, ctx, subscription, "plan moved", fields)


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
