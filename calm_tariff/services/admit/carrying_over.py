"""Carrying subscribers over: to the new revision of their plan, or to another plan when theirs is withdrawn."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from typing import Literal

from sqlalchemy import or_, select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.lifecycles import UNDECIDED
from calm_tariff.core.periods import day_start, local_day, month_of
from calm_tariff.services.admit import moves, subscriptions
from calm_tariff.services.base import stamps
from calm_tariff.services.base.context import Context, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.compose.products import get
from calm_tariff.services.compose.sheet import plans, publishing
from calm_tariff.services.compose.sheet.publishing import Published
from calm_tariff.services.compose.sheet.tariff_sheet import Sheet, laid_out, plan_of
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.products import Plan, PlanRevision

Existing = Literal["keep", "next period", "at date"]


def publish(
    ctx: Context,
    product_id: int,
    editions: Mapping[int, int],
    existing: Existing,
    note: str = "",
    on: date | None = None,
) -> Sheet:
    """Publish every draft of a sheet: each becomes its plan's next revision. `editions` are those of the plans whose
    drafts the publisher has seen, by plan.

    New subscribers get it at once; `existing` says whether those on the plan keep their revision, or
    move at the start of their next period, or on the day `on`, with notice. Raises `Conflict` where
    nothing is drafted, `Invalid` for a day that is not ahead, `Stale` where a draft is not as it was seen.
    """
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        publishing.refuse_unseen(session, get(session, product_id, lock=True), editions)
        publish_drafts(session, ctx, product_id, existing, note=note, on=on)
        return laid_out(session, product_id)


def publish_drafts(
    session: Session, ctx: Context, product_id: int, existing: Existing, note: str, on: date | None
) -> None:
    """Publish within the caller's transaction; see `publish`."""
    product = get(session, product_id, lock=True)
    day = _change_day(session, ctx, existing, on)
    for published in publishing.publish_drafts(session, ctx, product, note):
        if day and published.before:
            _change_terms(session, ctx, published, day)


def withdraw(ctx: Context, plan_id: int, move_to: int | None = None) -> Sheet:
    """End a plan. Whoever is still on it moves to the plan `move_to` at once, and is told.

    A plan on sale is closed first. Raises `Conflict` where somebody is left on it and no plan is named.
    """
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        # No call is shipped meanwhile: those that came before the move belong to what was, those after it to what is.
        stamps.hold(session, ctx, stamps.SHIPPING)
        plan = plan_of(session, plan_id)
        left = _held(session, ctx, plan)
        _refuse_waiting(session, plan)
        if left and move_to is None:
            raise Conflict(f"{len(left)} subscriptions are still on it; say which plan they move to", plan.name)
        if left and move_to is not None:
            target = locked(session, Plan, move_to)
            sold = target is not None and target.product_id == plan.product_id and target.state in ("on sale", "closed")
            if target is None or not sold or target is plan:
                raise Invalid("must be another plan of the product that is sold", "move_to")
            for subscription in left:
                _carry_over(session, ctx, subscription, plan, target)
        return plans.end(session, ctx, plan, moved=len(left))


def _change_day(session: Session, ctx: Context, existing: Existing, on: date | None) -> date | None:
    """The day from which those on a plan have its new revision; None where they keep theirs."""
    if existing == "keep":
        return None
    today = local_day(ctx.now_us, zone_of(session))
    if existing == "next period":
        return month_of(today).end
    if on is None or on <= today:
        raise Invalid("must be a day ahead", "on")
    return on


def _change_terms(session: Session, ctx: Context, published: Published, day: date) -> None:
    """Put everybody on a plan under its new revision from a day on, and tell members.

    A trial goes on as it was agreed; what follows it is under the new revision.
    """
    plan = published.plan
    change = day_start(day, zone_of(session))
    revisions = {revision.id for revision in plan.revisions}
    told: set[int] = set()
    for subscription in _held(session, ctx, plan):
        if moves.replace_terms(session, subscription, change, published.revision.id, revisions):
            told.add(subscription.application.consumer_id)
    words = publishing.changes_in_words(session, published)
    offer = f"{plan.product.name} · {plan.name}"
    fields = {"offer": offer, "day": f"{day:%-d %B %Y}", "changes": words}
    notice = Notice(kind="plan changes", fields=fields, page="/applications")
    notify(session, ctx, members(subscribers.members_of(session, told)), notice)


def _carry_over(session: Session, ctx: Context, subscription: Subscription, plan: Plan, target: Plan) -> None:
    """Put what a subscription has of a plan on another one from now on, what is yet to come of it as well."""
    if subscription.plan_id == plan.id and subscription.state == "trial":
        subscriptions.move_to(session, ctx, subscription, target)
        return
    revisions = {revision.id for revision in plan.revisions}
    moves.replace_terms(session, subscription, ctx.now_us, target.revisions[-1].id, revisions)
    if subscription.coming is not None and subscription.coming.plan_id == plan.id:
        subscription.coming.plan_id = target.id
    subscriptions.say_moved(session, ctx, subscription, plan, target)


def _held(session: Session, ctx: Context, plan: Plan) -> list[Subscription]:
    """Everybody whose subscription has not ended, and is under the plan now or will be."""
    ahead = or_(Stay.end_at.is_(None), Stay.end_at > ctx.now, Stay.due_at.is_not(None))
    under = select(Stay.subscription_id).join(PlanRevision, PlanRevision.id == Stay.revision_id)
    query = (
        select(Subscription)
        .where(Subscription.state != "ended")
        .where(
            or_(
                Subscription.plan_id == plan.id,
                Subscription.id.in_(under.where(PlanRevision.plan_id == plan.id, ahead)),
            )
        )
        .options(selectinload(Subscription.stays), selectinload(Subscription.coming))
    )
    return list(session.scalars(query))


def _refuse_waiting(session: Session, plan: Plan) -> None:
    """Raise `Conflict` where somebody has asked for a plan and is not answered yet."""
    waits = AccessRequest.state.in_(UNDECIDED)
    waiting = session.scalar(select(AccessRequest).where(AccessRequest.plan_id == plan.id, waits).limit(1))
    if waiting is not None:
        words = f"a request of {waiting.application.name} still waits for it; decide that first"
        raise Conflict(words, plan.name)
