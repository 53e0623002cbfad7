"""Taking a decision back before anybody was told of it; and telling at once."""

from __future__ import annotations

from typing import Any

from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from calm_tariff.core import stays
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.lifecycles import REQUEST, move
from calm_tariff.core.periods import moment_of
from calm_tariff.services.admit import moves, timelines
from calm_tariff.services.admit.desk.conversation import keep
from calm_tariff.services.admit.desk.deciding import cause_of, refuse_others
from calm_tariff.services.admit.desk.views import RequestView, subject, view
from calm_tariff.services.admit.subscriptions import say_ended
from calm_tariff.services.base import auditing, notices, stamps
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.admit.requests import AccessRequest, RequestAgreement, RequestMessage
from calm_tariff.store.admit.subscriptions import Subscription, SubscriptionOverride, TrialHad
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.products import Plan


def undo(ctx: Context, request_id: int) -> RequestView:
    """Take back what was decided: the request waits as before, and nobody hears of it. A subscription that began with
    it is over, and what was called meanwhile is free; one that was moved goes on where it was. Raises `NotFound`,
    `NotAllowed`, or `Conflict` where everybody has been told, or its owner has moved the subscription once more."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        stamps.hold(session, ctx, stamps.SHIPPING)
        request = _decided(session, ctx, request_id)
        kept: dict[str, Any] = request.undo or {}
        decided = request.state
        move(REQUEST, "the request", decided, "waiting")
        _undo_subscription(session, ctx, request, kept)
        request.state, request.plan = kept["state"], session.get_one(Plan, kept["plan_id"])
        mine = select(RequestAgreement.id).where(RequestAgreement.request_id == request.id)
        last = session.scalar(mine.order_by(RequestAgreement.id.desc()).limit(1)) if decided == "granted" else None
        session.execute(delete(RequestAgreement).where(RequestAgreement.id == last))
        session.expire(request, ["agreed"])
        said = update(RequestMessage).where(
            RequestMessage.request_id == request.id,
            RequestMessage.kind == decided,
            RequestMessage.at == request.decided_at,
        )
        session.execute(said.values(inside=True))
        asked_back = kept.get("asked_back_us")
        request.asked_back_at = None if asked_back is None else moment_of(asked_back)
        request.decided_at = request.decided_by = request.undo = request.undo_until = None
        request.note = request.reason = ""
        request.edition += 1
        notices.forget(session, ctx, cause_of(request))
        keep(session, ctx, request, "undone", f"It was {decided}, and that was undone.", inside=True)
        auditing.note(session, ctx, "undid a decision", subject(request), {"state": decided}, {"state": request.state})
        session.flush()
        return view(request, ctx.now)


def tell_now(ctx: Context, request_id: int) -> RequestView:
    """Tell of a decision at once; it cannot be undone any more. Raises `NotFound`, `Conflict` where that is so
    already."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        request = _decided(session, ctx, request_id)
        request.undo = request.undo_until = None
        request.edition += 1
        notices.tell_now(session, ctx, cause_of(request))
        return view(request, ctx.now)


def _decided(session: Session, ctx: Context, request_id: int) -> AccessRequest:
    request = locked(session, AccessRequest, request_id)
    if request is None:
        raise NotFound("there is no such request", str(request_id))
    refuse_others(ctx, request)
    if request.undo_until is None or request.undo_until <= ctx.now:
        raise Conflict("everybody has been told by now", "the request")
    return request


def _undo_subscription(session: Session, ctx: Context, request: AccessRequest, kept: dict[str, Any]) -> None:
    began, moved = kept.get("began"), kept.get("moved")
    if began is not None:
        subscription = locked(session, Subscription, began)
        assert subscription is not None
        timelines.keep(session, subscription, stays.undone(timelines.of(subscription), ctx.now_us))
        subscription.state, subscription.ended_at, subscription.undone = "ended", ctx.now, True
        subscription.request_id = None
        say_ended(session, ctx, subscription)
        session.execute(
            delete(TrialHad).where(
                TrialHad.consumer_id == request.application.consumer_id,
                TrialHad.product_id == request.plan.product_id,
                TrialHad.begun_at == subscription.started_at,
            )
        )
    if moved is not None:
        subscription = locked(session, Subscription, moved["subscription"])
        assert subscription is not None
        _refuse_moved_again(subscription, request, moved["when"])
        moves.restore(session, ctx, subscription, moved["when"], moved["before"])
    if kept.get("override") is not None:
        override = locked(session, SubscriptionOverride, kept["override"])
        if override is not None and override.lifted_at is None:
            override.lifted_at, override.lifted_by = ctx.now, ctx.actor.name
    if began is not None or moved is not None:
        stamps.touch(session, ctx)


def _refuse_moved_again(subscription: Subscription, request: AccessRequest, when: str) -> None:
    """Refuse to undo a move after which its owner has made another. Raises `Conflict`."""
    coming = subscription.coming
    as_decided = subscription.plan_id == request.plan_id and coming is None
    if when == "later":
        stays_on = coming is None and subscription.state == "trial"  # what follows a trial is kept in its stays
        as_decided = stays_on or (coming is not None and coming.plan_id == request.plan_id)
    if subscription.state == "ended" or not as_decided:
        raise Conflict("its owner has moved it once more since", "the subscription")
