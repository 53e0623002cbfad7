"""Moves of a subscription by those who hold it: made at once, or kept until they come."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import moves as rules
from calm_tariff.core import stays
from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.moves import Kind, Move, Standing, When
from calm_tariff.core.periods import instant_of, local_day, moment_of
from calm_tariff.core.sentences import move_in_words
from calm_tariff.core.stays import Stay, Timeline
from calm_tariff.core.terms import PlanTerms, free_units
from calm_tariff.formats.values import read, write
from calm_tariff.services.admit import timelines
from calm_tariff.services.admit.subscriptions import subject, tell
from calm_tariff.services.base import auditing, jobs, stamps
from calm_tariff.services.base.context import SYSTEM, Context, zone_of
from calm_tariff.services.base.one_by_one import one_by_one
from calm_tariff.store.admit.subscriptions import ComingMove, Subscription
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.products import Plan, PlanRevision

MAKE = "make a move that has come"
# The events that moves are once they are made.
_MADE: Mapping[Kind, str] = {
    "change plan": "subscription.plan_changed",
    "end": "subscription.ended",
    "pause": "subscription.paused",
    "resume": "subscription.resumed",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """A move as somebody wants it: to another plan, where `kind` says so."""

    kind: Kind
    when: When = "now"
    plan: Plan | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Outcome:
    """What a move comes to: from when on, the stays then, and whether it is chosen what follows a trial."""

    at_us: int
    stays: Timeline
    follows_trial: bool


def own(session: Session, ctx: Context, subscription_id: int) -> Subscription:
    """One's own subscription. Raises `NotFound` for another's, just as for none."""
    return _of(ctx.actor.own_consumer, session.get(Subscription, subscription_id), subscription_id)


def own_to_move(session: Session, ctx: Context, subscription_id: int) -> Subscription:
    """One's own subscription, held, to be moved. Raises `NotFound` for another's, just as for none; `NotAllowed`."""
    owner = ctx.actor.own_consumer
    found = _of(owner, locked(session, Subscription, subscription_id), subscription_id)
    ctx.actor.consumer_to("move subscriptions")
    return found


def _of(owner: int, found: Subscription | None, subscription_id: int) -> Subscription:
    if found is None or found.application.consumer_id != owner:
        raise NotFound("there is no such subscription", str(subscription_id))
    return found


def standing_of(session: Session, ctx: Context, subscription: Subscription) -> Standing:
    """A subscription as a move finds it."""
    timeline = timelines.of(subscription)
    terms = terms_of(session, stays.last_begun(timeline, ctx.now_us).revision_id)
    return Standing(
        state=subscription.state,
        stays=timeline,
        now_us=ctx.now_us,
        where=zone_of(session),
        notice_days=terms.notice_days,
    )


def terms_of(session: Session, revision_id: int) -> PlanTerms:
    """The terms of a revision."""
    return read(PlanTerms, session.get_one(PlanRevision, revision_id).terms)


def outcome(session: Session, ctx: Context, subscription: Subscription, wanted: Wanted) -> Outcome:
    """What a move would come to. What was to come is taken back by another move of plan or another end. Raises
    `Conflict` for one that cannot be made, `Invalid` for a plan that it is on already; its own plan may follow a trial,
    or end it now."""
    here = standing_of(session, ctx, subscription)
    rules.state_after(here, wanted.kind)
    at_us = rules.instant(here, wanted.kind, wanted.when)
    if wanted.kind in ("pause", "resume"):
        return Outcome(at_us=at_us, stays=here.stays, follows_trial=False)
    here = replace(here, stays=_without_coming(subscription))
    revision_id = None
    if wanted.kind == "change plan":
        if wanted.plan is None or wanted.plan.product_id != subscription.plan.product_id:
            raise Invalid("must be another plan of the product", "plan_id")
        if wanted.plan.id == subscription.plan_id and here.trial_end_us is None:
            raise Invalid(f"it is on {wanted.plan.name} already", "plan_id")
        revision_id = wanted.plan.revisions[-1].id
    trial = next((stay for stay in here.stays if stay.trial), None)
    by_units = trial is not None and free_units(terms_of(session, trial.revision_id)) is not None
    move = Move(kind=wanted.kind, when=wanted.when, revision_id=revision_id, by_units=by_units)
    return Outcome(
        at_us=at_us, stays=rules.made(here, move, at_us), follows_trial=rules.follows_trial(here, wanted.when)
    )


def make(session: Session, ctx: Context, subscription: Subscription, wanted: Wanted) -> None:
    """Make a move, or keep it until it comes, and tell the members. Whoever calls this holds `stamps.SHIPPING` and
    the subscription. Raises as `outcome` does."""
    here = standing_of(session, ctx, subscription)
    before, own = (subscription.state, subscription.plan.name), subscription.plan
    result = outcome(session, ctx, subscription, wanted)
    offer = f"{subscription.plan.product.name} · {subscription.plan.name}"
    if wanted.kind in ("change plan", "end"):
        rest = stays.beyond(_without_coming(subscription), result.at_us)
        _forget_coming(session, subscription)
        timelines.keep(session, subscription, result.stays)
        if wanted.when == "later" and not result.follows_trial:
            _keep_coming(session, ctx, subscription, wanted, result.at_us, rest)
    if wanted.when == "now":
        subscription.state = rules.state_after(here, wanted.kind)
        pauses = rules.paused(timelines.pauses_of(subscription), wanted.kind, ctx.now_us)
        timelines.keep_pauses(session, subscription, pauses)
        if wanted.kind == "end":
            subscription.ended_at = ctx.now
        if wanted.plan is not None:
            subscription.plan_id = wanted.plan.id
            session.flush()
            session.refresh(subscription, ["plan"])
    to = wanted.plan.name if wanted.plan is not None and wanted.plan is not own else None
    last = None if wanted.when == "now" else local_day(result.at_us - 1, zone_of(session))
    said = move_in_words(wanted.kind, offer, to, last)
    auditing.note(
        session,
        ctx,
        "moved a subscription",
        subject(subscription),
        before={"state": before[0], "plan": before[1]},
        after={"state": subscription.state, "plan": subscription.plan.name, "said": said},
        event=_MADE[wanted.kind] if wanted.when == "now" else "subscription.move_set",
    )
    tell(session, ctx, subscription, "subscription moved", {"said": said, "by": ctx.actor.name})
    stamps.touch(session, ctx)


def take_back(ctx: Context, subscription_id: int) -> None:
    """Take back what was to come of one's own subscription. Raises `NotFound`, `Conflict` where nothing is."""
    with ctx.transaction() as session:
        stamps.hold(session, ctx, stamps.SHIPPING)
        subscription = own_to_move(session, ctx, subscription_id)
        coming = subscription.coming
        if coming is None or coming.at <= ctx.now:
            raise Conflict("nothing of it is to come", "the subscription")
        timeline, kind = _without_coming(subscription), coming.kind
        _forget_coming(session, subscription)
        timelines.keep(session, subscription, timeline)
        auditing.note(session, ctx, "took a move back", subject(subscription), before={"to come": kind})
        offer = f"{subscription.plan.product.name} · {subscription.plan.name}"
        said = move_in_words("take back", offer, None, None)
        tell(session, ctx, subscription, "subscription moved", {"said": said, "by": ctx.actor.name})
        stamps.touch(session, ctx)


def come_true(ctx: Context, subscription_id: int) -> datetime | None:
    """Say that a move has come; or when it will. Calls were decided and charged by it from its instant on already."""
    with ctx.transaction() as session:
        subscription = locked(session, Subscription, subscription_id)
        if subscription is None:
            return None
        arrive(session, ctx, subscription)
        return subscription.coming.at if subscription.coming is not None else None


def arrive(session: Session, ctx: Context, subscription: Subscription) -> None:
    """Say of what was to come of a subscription that it has come, if it has. Whoever calls this holds it."""
    coming = subscription.coming
    if coming is None or coming.at > ctx.now:
        return
    offer = f"{subscription.plan.product.name} · {subscription.plan.name}"
    wanted = Wanted(kind="end" if coming.kind == "end" else "change plan", plan=coming.plan)
    at = coming.at
    _forget_coming(session, subscription)
    if wanted.plan is None:
        subscription.state, subscription.ended_at = "ended", at
        pauses = rules.paused(timelines.pauses_of(subscription), "end", instant_of(at))
        timelines.keep_pauses(session, subscription, pauses)
    else:
        subscription.plan_id = wanted.plan.id
        session.flush()
        session.refresh(subscription, ["plan"])
    said = move_in_words(wanted.kind, offer, wanted.plan.name if wanted.plan else None, None)
    did, event = "made a move that had come", _MADE[wanted.kind]
    auditing.note(session, ctx.acting(SYSTEM), did, subject(subscription), after={"said": said}, event=event)
    tell(session, ctx, subscription, "subscription moved", {"said": said, "by": ""})


def make_those_that_have_come(ctx: Context) -> int:
    """Say of every move whose instant has passed that it has come; returns of how many."""
    with ctx.transaction() as session:
        due = session.scalars(select(ComingMove.subscription_id).where(ComingMove.at <= ctx.now)).all()
    return one_by_one(due, lambda subscription: come_true(ctx, subscription) is None)


def replace_terms(
    session: Session, subscription: Subscription, at_us: int, revision_id: int, of: Collection[int]
) -> bool:
    """Put what a subscription has under some revisions under another one from an instant on, what a move that is to
    come has cut off as well; whether anything was. Whoever calls this holds `stamps.SHIPPING`."""
    before = timelines.of(subscription)
    after = stays.changed(before, at_us, revision_id, of)
    if subscription.coming is not None:
        rest = stays.changed(_rest(subscription.coming), at_us, revision_id, of)
        subscription.coming.rest = [write(stay) for stay in rest]
    timelines.keep(session, subscription, after)
    return after != before


def kept(subscription: Subscription) -> dict[str, Any]:
    """A subscription before a move, as plain values, should the move be undone (`restore`)."""
    coming = subscription.coming
    return {
        "state": subscription.state,
        "plan_id": subscription.plan_id,
        "stays": [write(stay) for stay in timelines.of(subscription)],
        "coming": None
        if coming is None
        else {
            "kind": coming.kind,
            "at_us": instant_of(coming.at),
            "plan_id": coming.plan_id,
            "made_us": instant_of(coming.made_at),
            "made_by": coming.made_by,
            "rest": coming.rest,
        },
    }


def restore(session: Session, ctx: Context, subscription: Subscription, when: When, before: dict[str, Any]) -> None:
    """Undo a move: from now on what held before it holds again; what it was moved to has held meanwhile. Whoever calls
    this holds `stamps.SHIPPING` and the subscription."""
    was = tuple(read(Stay, raw) for raw in before["stays"])
    _forget_coming(session, subscription)
    if when == "now":
        was = stays.put_back(timelines.of(subscription), ctx.now_us, stays.beyond(was, ctx.now_us))
    timelines.keep(session, subscription, was)
    subscription.state, subscription.plan_id = before["state"], before["plan_id"]
    session.flush()
    session.refresh(subscription, ["plan"])
    coming = before["coming"]
    if coming is not None:
        at = moment_of(coming["at_us"])
        session.add(
            ComingMove(
                subscription_id=subscription.id,
                kind=coming["kind"],
                at=at,
                plan_id=coming["plan_id"],
                made_at=moment_of(coming["made_us"]),
                made_by=coming["made_by"],
                rest=coming["rest"],
            )
        )
        session.flush()
        session.expire(subscription, ["coming"])
        _ask_for(session, ctx, subscription.id, at)
    auditing.note(session, ctx, "undid a move", subject(subscription), after={"plan": subscription.plan.name})


def _without_coming(subscription: Subscription) -> Timeline:
    """The stays as they would be without the move that is to come, if one is."""
    timeline, coming = timelines.of(subscription), subscription.coming
    return timeline if coming is None else stays.put_back(timeline, instant_of(coming.at), _rest(coming))


def _keep_coming(
    session: Session, ctx: Context, subscription: Subscription, wanted: Wanted, at_us: int, rest: Timeline
) -> None:
    session.add(
        ComingMove(
            subscription_id=subscription.id,
            kind=wanted.kind,
            at=moment_of(at_us),
            plan_id=wanted.plan.id if wanted.plan else None,
            made_at=ctx.now,
            made_by=ctx.actor.name,
            rest=[write(stay) for stay in rest],
        )
    )
    session.flush()
    session.expire(subscription, ["coming"])
    _ask_for(session, ctx, subscription.id, moment_of(at_us))


def _ask_for(session: Session, ctx: Context, subscription: int, at: datetime) -> None:
    what, arguments = f"what is to come of subscription {subscription}", {"subscription": subscription}
    jobs.write(session, ctx, MAKE, what, arguments, subject=str(subscription), run_at=at)


def _forget_coming(session: Session, subscription: Subscription) -> None:
    if subscription.coming is not None:
        session.delete(subscription.coming)
        session.flush()
        session.expire(subscription, ["coming"])


def _rest(coming: ComingMove) -> Timeline:
    return tuple(read(Stay, raw) for raw in coming.rest)
