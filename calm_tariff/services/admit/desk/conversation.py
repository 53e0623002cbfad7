"""What is said and done about a request, by both sides, in one conversation."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.lifecycles import REQUEST, UNDECIDED, move
from calm_tariff.core.notices import Kind
from calm_tariff.services.admit.desk import editions
from calm_tariff.services.admit.desk.views import RequestView, due_at, subject, view
from calm_tariff.services.base import auditing, jobs
from calm_tariff.services.base.context import SYSTEM, Context
from calm_tariff.services.base.notices import Notice, Recipient, members, notify
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.consumers import Member
from calm_tariff.store.admit.requests import AccessRequest, RequestMessage
from calm_tariff.store.base.locking import locked
from calm_tariff.store.house.people import Person

# What a message is: words alone, a question that stops the request and its answer, or what was done.
MessageKind = Literal[
    "said",
    "asked back",
    "answered",
    "inside",
    "asked",
    "agreed",
    "handed over",
    "passed to outside",
    "ticket",
    "reminded",
    "granted",
    "declined",
    "undone",
    "taken back",
]
Side = Literal["consumer", "provider", "outside", "product"]
LONGEST = 5_000
DESK = "the ticket desk"
TELL_DESK = "tell the ticket desk"
# What the outside system is told of what is said and done here.
_TOLD_OUTSIDE = ("passed to outside", "said", "answered", "taken back", "reminded")


@dataclass(frozen=True, slots=True, kw_only=True)
class MessageView:
    """Something that was said or done about a request, by whom of which side; `inside` never leaves the provider."""

    id: int
    at: datetime
    kind: str
    by: str
    side: Side
    text: str
    inside: bool


def of(session: Session, request_id: int, inside: bool) -> list[MessageView]:
    """The conversation about a request, from its beginning; with what is `inside`, for the provider alone."""
    query = select(RequestMessage).where(RequestMessage.request_id == request_id).order_by(RequestMessage.id)
    if not inside:
        query = query.where(RequestMessage.inside.is_(False))
    return [_view(message) for message in session.scalars(query)]


def keep(
    session: Session,
    ctx: Context,
    request: AccessRequest,
    kind: MessageKind,
    text: str = "",
    *,
    inside: bool = False,
) -> None:
    """Keep that something was said or done about a request, by whoever acts."""
    session.add(
        RequestMessage(
            request_id=request.id,
            at=ctx.now,
            kind=kind,
            by=ctx.actor.name[:200],
            member_id=ctx.actor.member_id,
            person_id=ctx.actor.person_id,
            text=text,
            inside=inside,
        )
    )
    if kind in _TOLD_OUTSIDE and request.told_outside is not None and ctx.actor.name != DESK:
        jobs.write(session, ctx, TELL_DESK, subject(request)[2], {"request": request.id}, subject=str(request.id))


def say(ctx: Context, request_id: int, text: str, *, inside: bool = False) -> RequestView:
    """Write to the consumer about a request; or a note to colleagues, `inside`. Raises `NotFound`, or `Invalid` for no
    words."""
    ctx.actor.must_be("reviewer", "product manager", *(("operations", "finance") if inside else ()))
    text = _words(text)
    with ctx.transaction() as session:
        request = _on_desk(session, request_id)
        keep(session, ctx, request, "inside" if inside else "said", text, inside=inside)
        request.edition += 1
        if not inside:
            tell_consumer(session, ctx, request, "request message", {"said": text})
        did = "wrote a note about a request" if inside else "wrote about a request"
        auditing.note(session, ctx, did, subject(request), why=text)
        return view(request, ctx.now)


def ask_back(ctx: Context, request_id: int, text: str, edition: int | None = None) -> RequestView:
    """Ask the consumer something: the request rests until it is answered, and that time does not count. Raises
    `NotFound`, `Conflict` where it does not wait here, `Invalid` for no words, `Stale`."""
    ctx.actor.must_be("reviewer", "product manager")
    text = _words(text)
    with ctx.transaction() as session:
        request = _on_desk(session, request_id)
        editions.refuse_stale(ctx, request, edition)
        before = request.state
        request.state = move(REQUEST, "the request", before, "asked back")
        request.asked_back_at, request.edition = ctx.now, request.edition + 1
        keep(session, ctx, request, "asked back", text)
        tell_consumer(session, ctx, request, "request asked back", {"said": text})
        auditing.note(
            session, ctx, "asked back", subject(request), {"state": before}, {"state": request.state}, why=text
        )
        return view(request, ctx.now)


def answer(ctx: Context, request_id: int, text: str) -> None:
    """Write about one's own request. Where something was asked back, this answers it, and the request waits again.
    Raises `NotFound`, `Conflict` where it is decided, `Invalid` for no words."""
    consumer_id = ctx.actor.own_consumer
    with ctx.transaction() as session:
        request = locked(session, AccessRequest, request_id)
        if request is None or request.application.consumer_id != consumer_id:
            raise NotFound("there is no such request", str(request_id))
        ctx.actor.consumer_to("ask for plans")
        text = _words(text)
        if request.state not in UNDECIDED:
            raise Conflict(f"it is {request.state}; ask again, and say it there", "the request")
        answers = request.state == "asked back"
        keep(session, ctx, request, "answered" if answers else "said", text)
        if answers:
            request.state = move(REQUEST, "the request", request.state, "waiting")
            request.due_at, request.asked_back_at = due_at(request, ctx.now), None
        request.edition += 1
        auditing.note(session, ctx, "answered" if answers else "wrote about a request", subject(request), why=text)
        _tell_reviewers(session, ctx, request, text)


def tell_consumer(
    session: Session, ctx: Context, request: AccessRequest, kind: Kind, fields: dict[str, object] | None = None
) -> None:
    """Tell whoever asked how a request goes on; where they have left, those who can ask in their place."""
    plan, application = request.plan, request.application
    said = {
        "offer": f"{plan.product.name} · {plan.name}",
        "application": application.name,
        "said": "",
        **(fields or {}),
    }
    notice = Notice(kind=kind, fields=said, page=f"/requests/{request.id}")
    notify(session, ctx, members(told_of(session, request)), notice)


def told_of(session: Session, request: AccessRequest) -> list[Member]:
    """Who asked; where they have left, those who can ask in their place."""
    if request.member.left_at is None:
        return [request.member]
    return subscribers.members_who_may(session, request.application.consumer_id, "ask for plans")


def tell_person(session: Session, ctx: Context, request: AccessRequest, person: Person, kind: Kind, said: str) -> None:
    """Tell one of the provider's people about a request."""
    fields = {
        "offer": f"{request.plan.product.name} · {request.plan.name}",
        "application": request.application.name,
        "organisation": request.application.consumer.name,
        "by": ctx.actor.name,
        "said": said,
    }
    to = Recipient(email=person.email, name=person.name, person_id=person.id)
    notify(session, ctx, [to], Notice(kind=kind, fields=fields, page=f"/admit/desk/{request.id}"))


def _tell_reviewers(session: Session, ctx: Context, request: AccessRequest, text: str) -> None:
    """Tell whoever has a request in hand, or else whoever wrote last, that the consumer has written."""
    wrote = select(RequestMessage.person_id).where(
        RequestMessage.request_id == request.id,
        RequestMessage.person_id.is_not(None),
        RequestMessage.inside.is_(False),
    )
    who = request.assigned_id or session.scalar(wrote.order_by(RequestMessage.id.desc()).limit(1))
    person = session.get(Person, who) if who is not None else None
    if person is not None:
        tell_person(session, ctx, request, person, "request answered", text)


def _on_desk(session: Session, request_id: int) -> AccessRequest:
    request = locked(session, AccessRequest, request_id)
    if request is None:
        raise NotFound("there is no such request", str(request_id))
    if request.state not in UNDECIDED:
        raise Conflict(f"it is {request.state}", "the request")
    return request


def _words(text: str) -> str:
    text = text.strip()
    if not text:
        raise Invalid("write something", "text")
    if len(text) > LONGEST:
        raise Invalid(f"must be at most {LONGEST:,} characters long", "text")
    return text


def _view(message: RequestMessage) -> MessageView:
    side: Side = "product"
    if message.member_id is not None:
        side = "consumer"
    elif message.by == DESK:
        side = "outside"
    elif message.by != SYSTEM.name:
        side = "provider"
    return MessageView(
        id=message.id,
        at=message.at,
        kind=message.kind,
        by=message.by,
        side=side,
        text=message.text,
        inside=message.inside,
    )
