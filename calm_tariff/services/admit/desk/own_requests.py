"""A consumer's own requests: where each stands, what comes next, who must act, and all that was said."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime

from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound
from calm_tariff.core.lifecycles import UNDECIDED
from calm_tariff.core.periods import instant_of, local_day
from calm_tariff.core.sentences import expected_in_words, stands_in_words, way_in_words
from calm_tariff.services.admit.desk import conversation, expectations
from calm_tariff.services.admit.desk.conversation import MessageView
from calm_tariff.services.admit.desk.views import due_at, needed, way_of
from calm_tariff.services.base.context import Context, provider_of, zone_of
from calm_tariff.store.admit.requests import AccessRequest


@dataclass(frozen=True, slots=True, kw_only=True)
class OwnRequest:
    """One's own request. `stands` and `next` say in words where it is and what comes, `way` how it is decided; `acts`
    is who must act: `you`, `they` or nobody. What was decided and can still be undone is not told yet."""

    id: int
    application_id: int
    application: str
    product: str
    slug: str
    plan: str
    purpose: str
    asked_by: str
    created_at: datetime
    state: str
    acts: str
    stands: str
    next: str
    way: str
    expected: list[str]
    moves_from: str | None
    open: bool
    messages: list[MessageView]


def one(ctx: Context, request_id: int) -> OwnRequest:
    """One's own request. Raises `NotFound` for another's, just as for none."""
    owner = ctx.actor.own_consumer
    with ctx.reading() as session:
        request = session.get(AccessRequest, request_id)
        if request is None or request.application.consumer_id != owner:
            raise NotFound("there is no such request", str(request_id))
        return view(session, ctx, request)


def view(session: Session, ctx: Context, request: AccessRequest) -> OwnRequest:
    """A stored request as its consumer sees it."""
    state = state_told(request, ctx.now)
    office, due = provider_of(session).name, due_at(request, ctx.now)
    by = f"{local_day(instant_of(due) - 1, zone_of(session)):%A %-d %B}" if due and due > ctx.now else ""
    stands, then = stands_in_words(state, needed(request), office, request.ticket, by)
    said = [each for each in conversation.of(session, request.id, inside=False) if _told(request, each, ctx.now)]
    return OwnRequest(
        id=request.id,
        application_id=request.application_id,
        application=request.application.name,
        product=request.plan.product.name,
        slug=request.plan.product.slug,
        plan=request.plan.name,
        purpose=request.purpose,
        asked_by=request.member.name,
        created_at=request.created_at,
        state=state,
        acts={"asked back": "you", "granted": "you"}.get(state, "they" if state in UNDECIDED else ""),
        stands=stands,
        next=then,
        way=way_in_words(way_of(request)),
        expected=[expected_in_words(each.name, each.units) for each in expectations.of(request)],
        moves_from=request.moves.plan.name if request.moves else None,
        open=state in UNDECIDED,
        messages=[replace(each, by=office) if each.side == "provider" else each for each in said],
    )


def state_told(request: AccessRequest, now: datetime) -> str:
    """A request's state as far as its consumer has been told: it may be undone that it was declined. What was granted
    is in force, and seen."""
    untold = request.undo_until is not None and request.undo_until > now
    return "waiting" if untold and request.state == "declined" else request.state


def _told(request: AccessRequest, message: MessageView, now: datetime) -> bool:
    return message.kind != "declined" or state_told(request, now) == "declined"
