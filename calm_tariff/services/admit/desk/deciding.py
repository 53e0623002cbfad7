"""Deciding on requests: who agrees, and what a grant does."""

from __future__ import annotations

from datetime import timedelta
from typing import Any, Literal

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound
from calm_tariff.core.lifecycles import ON_THE_DESK, REQUEST, move
from calm_tariff.core.moves import When
from calm_tariff.core.notices import Kind
from calm_tariff.core.periods import instant_of, local_day
from calm_tariff.core.routes import WHO_REVIEW, Hand, Way, seat_of
from calm_tariff.core.sentences import seats_in_words
from calm_tariff.formats.values import write
from calm_tariff.services.admit import moves, overrides, subscriptions
from calm_tariff.services.admit.desk import editions, grants, routing
from calm_tariff.services.admit.desk.conversation import keep, tell_consumer, told_of
from calm_tariff.services.admit.desk.expectations import of as expectations_of
from calm_tariff.services.admit.desk.grants import Grant
from calm_tariff.services.admit.desk.views import RequestView, agreed_by, needed, subject, view, way_of
from calm_tariff.services.admit.moves import Wanted
from calm_tariff.services.base import auditing, jobs, stamps
from calm_tariff.services.base.context import ROLES, SYSTEM, Context, Holding, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.store.admit.requests import AccessRequest, RequestAgreement
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.products import Plan

Decision = Literal["granted", "declined"]
ASK_DESK = "ask the ticket desk"
# So long after a decision it can be undone; then everybody is told.
UNDO = timedelta(minutes=1)


def decide(
    ctx: Context,
    request_id: int,
    decision: Decision,
    note: str = "",
    *,
    reason: str = "",
    grant: Grant | None = None,
    edition: int | None = None,
) -> RequestView:
    """Grant or decline. Where others must agree as well, this is one agreement of several; the last of them grants, or
    passes the request to the outside system. `grant` is what is granted otherwise than asked; who agrees to something
    else than those before has them agree anew. A decision can be undone for a while; then it is told.

    Raises `NotFound`, `NotAllowed` where it waits for others, `Conflict` where it has been decided or the same person
    would agree twice, `Invalid`, naming the field, and `Stale`.
    """
    ctx.actor.must_be(*ROLES)
    if decision == "declined" and not (note.strip() or reason.strip()):
        raise Invalid("say why, so that the consumer can act on it", "note")
    with ctx.transaction() as session:
        request = held(session, ctx, request_id)
        if request is None:
            raise NotFound("there is no such request", str(request_id))
        refuse_others(ctx, request)
        editions.refuse_stale(ctx, request, edition)
        if request.state == "passed to outside":
            raise Conflict("is decided in the outside system, not here", "the request")
        if request.state not in ON_THE_DESK:
            raise Conflict(f"it is {request.state} already", "the request")
        request.edition += 1
        if decision == "declined":
            carry_out(session, ctx, request, decision, note.strip(), reason=reason.strip()[:200], undoable=True)
        else:
            _agree(session, ctx, request, note.strip(), grant)
        return view(request, ctx.now)


def refuse_others(ctx: Context, request: AccessRequest) -> None:
    """Refuse whoever has no say in a request. Raises `NotAllowed`."""
    if not ctx.actor.roles & (WHO_REVIEW | set(way_of(request).roles)):
        waits = seats_in_words(needed(request)) or "nobody here"
        raise NotAllowed(f"it waits for {waits}; you are {ctx.actor.in_words}")


def _agree(session: Session, ctx: Context, request: AccessRequest, note: str, typed: Grant | None) -> None:
    """One more agreement; the last one grants, or passes it on."""
    before = grants.of(request)
    wanted = before if typed is None else typed
    plan = grants.checked(session, local_day(ctx.now_us, zone_of(session)), request, wanted)
    if wanted != before:
        if request.agreed:
            names = ", ".join(each.name for each in request.agreed)
            request.agreed.clear()
            session.flush()
            anew = f"It is to be granted otherwise: {names} must agree anew."
            keep(session, ctx, request, "inside", anew, inside=True)
        if plan is not grants.plan_of(session, request, before):
            request.way = write(_way_to(session, ctx, plan, request))
        grants.keep(request, wanted)
    way = way_of(request)
    by = Hand(identity=ctx.actor.identity, roles=ctx.actor.roles, person=ctx.actor.token_id is None)
    if needed(request):
        seat = seat_of(way, agreed_by(request), by)
        request.agreed.append(
            RequestAgreement(identity=by.identity, name=ctx.actor.name, seat=seat, note=note, at=ctx.now)
        )
        session.flush()
    left = needed(request)
    said = "; ".join(grants.in_words(session, request, wanted))
    if left:
        keep(session, ctx, request, "agreed", note, inside=True)
        after = {"still needs": seats_in_words(left), "granted": said or "as asked"}
        auditing.note(session, ctx, "agreed to a request", subject(request), after=after, why=note)
        tell_consumer(session, ctx, request, "request goes on", {"said": f"It still needs {seats_in_words(left)}."})
    elif way.step == "outside":
        pass_on(session, ctx, request)
    else:
        carry_out(session, ctx, request, "granted", note, grant=wanted, undoable=True)


def _way_to(session: Session, ctx: Context, plan: Plan, request: AccessRequest) -> Way:
    """How a request is decided that is to be granted another plan: as one for that plan would be, by somebody."""
    way = routing.routed(session, ctx, plan, request.application, expectations_of(request)).way
    return Way(step="reviewed", roles=way.roles) if way.step == "open" else way


def pass_on(session: Session, ctx: Context, request: AccessRequest) -> None:
    """Put a request before the outside system."""
    request.state = move(REQUEST, "the request", request.state, "passed to outside")
    request.told_outside = 0
    keep(session, ctx.acting(SYSTEM), request, "passed to outside")
    jobs.write(session, ctx, ASK_DESK, subject(request)[2], {"request": request.id}, subject=str(request.id))


def held(session: Session, ctx: Context, request_id: int) -> AccessRequest | None:
    """A request, held; with what its grant needs: where it moves a subscription, no call is shipped meanwhile."""
    if session.scalar(select(AccessRequest.moves_id).where(AccessRequest.id == request_id)) is not None:
        stamps.hold(session, ctx, stamps.SHIPPING)
    return locked(session, AccessRequest, request_id)


def moved_by(ctx: Context, request_id: int) -> int | None:
    """The subscription that a request moves, where it moves one."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        return session.scalar(select(AccessRequest.moves_id).where(AccessRequest.id == request_id))


def carry_out(
    session: Session,
    ctx: Context,
    request: AccessRequest,
    decision: Decision,
    note: str,
    *,
    reason: str = "",
    grant: Grant = grants.AS_ASKED,
    undoable: bool = False,
) -> None:
    """Do what was decided: a grant subscribes the application, or moves it; either is told, once it cannot be undone
    any more."""
    before, asked_back = request.state, request.asked_back_at
    request.state = move(REQUEST, "the request", request.state, decision)
    request.decided_at, request.decided_by = ctx.now, ctx.actor.name
    request.note, request.reason, request.asked_back_at = note, reason, None
    undo: dict[str, Any] = {"state": before, "plan_id": request.plan_id, "asked_back_us": None}
    if asked_back is not None:
        undo["asked_back_us"] = instant_of(asked_back)
    if undoable:
        ctx = ctx.holding_back(Holding(cause_of(request), ctx.now + UNDO))
    said = "; ".join(grants.in_words(session, request, grant)) if decision == "granted" else ""
    if decision == "granted":
        undo |= _begin(session, ctx, request, grant)
    if undoable:
        request.undo, request.undo_until = undo, ctx.now + UNDO
    words = " ".join(filter(None, [f"{reason}." if reason else "", note]))
    keep(session, ctx, request, decision, " ".join(filter(None, [f"Granted {said}." if said else "", words])))
    plan, application = request.plan, request.application
    fields = {
        "offer": f"{plan.product.name} · {plan.name}",
        "application": application.name,
        "note": words,
        "said": said,
    }
    kind: Kind = "request granted" if decision == "granted" else "request declined"
    page = f"/applications/{application.id}" if decision == "granted" else f"/requests/{request.id}"
    notify(session, ctx, members(told_of(session, request)), Notice(kind=kind, fields=fields, page=page))
    auditing.note(
        session,
        ctx,
        f"{decision} a request",
        subject(request),
        before={"state": before},
        after={"state": decision, **({"granted": said} if said else {})},
        why=words,
    )


def _begin(session: Session, ctx: Context, request: AccessRequest, grant: Grant) -> dict[str, Any]:
    """Subscribe the application, or move its subscription; returns what takes it back."""
    plan = request.plan = grants.plan_of(session, request, grant)
    moving = locked(session, Subscription, request.moves_id) if request.moves_id else None
    undo: dict[str, Any] = {}
    if moving is not None:
        moves.arrive(session, ctx, moving)
        before = moves.kept(moving)
        when: When = "later" if request.moves_when == "later" else "now"
        moves.make(session, ctx, moving, Wanted(kind="change plan", when=when, plan=plan))
        subscription, undo["moved"] = moving, {"subscription": moving.id, "when": when, "before": before}
    else:
        subscription = subscriptions.begin(
            session, ctx, request.application_id, plan, request.id, free_days=grant.trial_days
        )
        undo["began"] = subscription.id
        stamps.touch(session, ctx)
    own = grants.override_of(grant, request.note)
    if own is not None:
        undo["override"] = overrides.put(session, ctx, subscription, own).id
    return undo


def cause_of(request: AccessRequest) -> str:
    """By what the notices of a decision are known that are held back."""
    return f"request {request.id}"
