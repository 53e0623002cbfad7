"""Subscriptions: how one begins, with or without a trial, how a trial ends, and moving to another plan."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core import stays
from calm_tariff.core.lifecycles import SUBSCRIPTION, move
from calm_tariff.core.limits import Units
from calm_tariff.core.periods import day_start, instant_of, local_day, moment_of
from calm_tariff.core.terms import PlanTerms, Trial, free_units
from calm_tariff.formats.values import read
from calm_tariff.services import auditing, mailing, stamps
from calm_tariff.services.context import Context, zone_of
from calm_tariff.store import call_queries, usage_queries
from calm_tariff.store.admission import Stay, Subscription
from calm_tariff.store.catalogue import Meter, Plan
from calm_tariff.store.people import Member


def begin(session: Session, ctx: Context, application_id: int, plan: Plan, request_id: int | None) -> Subscription:
    """Subscribe an application to a plan's newest revision.

    With a trial, the first stay is free and ends on a local midnight, so that no day is half a trial.
    """
    revision = plan.revisions[-1]
    terms = read(PlanTerms, revision.terms)
    trial = terms.trial
    made = Subscription(
        application_id=application_id, plan_id=plan.id, request_id=request_id, started_at=ctx.now,
        state="trial" if trial else "active",
    )  # fmt: skip
    session.add(made)
    session.flush()
    first = Stay(subscription_id=made.id, revision_id=revision.id, start_at=ctx.now, trial=bool(trial))
    session.add(first)
    if trial:
        first.end_at = _trial_end(session, ctx, trial)
        if trial.then == "charge":
            due = ctx.now if free_units(terms) else None
            session.add(Stay(subscription_id=made.id, revision_id=revision.id, start_at=first.end_at, due_at=due))
    session.flush()
    stamps.touch(session, ctx)
    return made


def end_trials(ctx: Context) -> int:
    """Trials whose days have passed or whose units are used end, and are told; returns how many.

    Calls have been decided and charged by their ends already: what is done here is to say so.
    """
    with ctx.transaction() as session:
        stamps.hold(session, ctx, stamps.SHIPPING)
        query = (
            select(Subscription)
            .where(Subscription.state == "trial")
            .options(selectinload(Subscription.stays))
            .with_for_update(of=Subscription)
        )
        ended = 0
        for subscription in session.scalars(query):
            stay = next((s for s in subscription.stays if s.trial), None)
            if stay is None:
                continue
            terms = read(PlanTerms, stay.revision.terms)
            free = free_units(terms)
            meter = session.scalar(select(Meter.id).where(Meter.key == free.meter)) if free else None
            if free and meter and _used_up(session, subscription, stay, free.units, meter, ctx.now):
                _cut(session, subscription, stay, meter)  # also where its days have passed meanwhile
            elif stay.end_at is not None and stay.end_at > ctx.now:
                continue
            trial = terms.trial
            for following in subscription.stays:
                following.due_at = None  # it lies where it lies
            ended += 1
            _end_trial(session, ctx, subscription, trial)
        if ended:
            stamps.touch(session, ctx)
        return ended


def move_to(session: Session, ctx: Context, subscription: Subscription, plan: Plan) -> None:
    """Put a subscription on another plan of the product from now on, and tell its members.

    A trial that runs ends with the move. Whoever calls this holds `stamps.SHIPPING`.
    """
    before = subscription.plan
    now = ctx.now
    for stay in subscription.stays:
        if stay.start_at > now:
            session.delete(stay)
        elif stay.end_at is None or stay.end_at > now:
            stay.end_at = now
    session.add(Stay(subscription_id=subscription.id, revision_id=plan.revisions[-1].id, start_at=now))
    subscription.plan_id = plan.id
    if subscription.state == "trial":
        subscription.state = move(SUBSCRIPTION, "the subscription", subscription.state, "active")
    offer = f"{plan.product.name} · {plan.name}"
    auditing.note(
        session, ctx, "moved a subscription", ("subscription", subscription.id, subscription.application.name),
        {"plan": before.name}, {"plan": plan.name},
    )  # fmt: skip
    _tell(
        session, ctx, subscription, f"{subscription.application.name} is now on {offer}",
        f"{before.name} of {plan.product.name} is withdrawn. {subscription.application.name} goes on under {plan.name} "
        f"from today; its keys stay as they are.",
    )  # fmt: skip


def _trial_end(session: Session, ctx: Context, trial: Trial) -> datetime:
    where = zone_of(session)
    first = local_day(ctx.now_us, where)
    return moment_of(day_start(first.fromordinal(first.toordinal() + trial.days), where))


def _used_up(session: Session, subscription: Subscription, stay: Stay, units: Units, meter: int, now: datetime) -> bool:
    span = instant_of(stay.start_at), instant_of(now)
    used = usage_queries.units_by_stay(session, *span, [subscription.id])
    return used.get((stay.id, meter), usage_queries.ZERO) >= units


def _cut(session: Session, subscription: Subscription, stay: Stay, meter: int) -> None:
    """End a trial with the call that used the last of it, and begin what follows: the decisions have done so."""
    last = call_queries.last_counted(session, subscription.id, stay.id, meter)
    stay.end_at, stay.spent = moment_of((last or instant_of(stay.start_at)) + 1), True
    lay_out(subscription, stay.end_at)


def lay_out(subscription: Subscription, end: datetime) -> None:
    """Put what follows a trial of units where it lies now that the trial ends then."""
    chain = sorted((s for s in subscription.stays if s.due_at), key=lambda s: (s.due_at or end, s.id))
    lies = stays.laid_out(instant_of(end), [instant_of(s.due_at) for s in chain if s.due_at])
    for stay, (start_us, end_us) in zip(chain, lies, strict=True):
        stay.start_at = moment_of(start_us)
        if end_us is not None:
            stay.end_at = moment_of(end_us)


def _end_trial(session: Session, ctx: Context, subscription: Subscription, trial: Trial | None) -> None:
    goes_on = trial is None or trial.then == "charge"
    subscription.state = move(SUBSCRIPTION, "the trial", subscription.state, "active" if goes_on else "ended")
    if not goes_on:
        subscription.ended_at = ctx.now
    offer = f"{subscription.plan.product.name} · {subscription.plan.name}"
    what = "its charges begin" if goes_on else "the subscription has ended"
    auditing.note(
        session, ctx, "ended a trial", ("subscription", subscription.id, subscription.application.name),
        {"state": "trial"}, {"state": subscription.state},
    )  # fmt: skip
    _tell(
        session, ctx, subscription, f"The trial of {offer} is over",
        f"the trial of {offer} for {subscription.application.name} is over; {what}.",
    )  # fmt: skip


def _tell(session: Session, ctx: Context, subscription: Subscription, subject: str, text: str) -> None:
    consumer = subscription.application.consumer_id
    for member in session.scalars(select(Member).where(Member.consumer_id == consumer)):
        mailing.write(session, ctx, member.email, subject, f"Dear {member.name},\n\n{text}\n")
