"""What the ticket desk is told of a request, in the order in which it was said and done here; and what it calls back.

Both ways it is a webhook that is signed (Standard Webhooks 1.0) with a secret that both sides know. One of the desk's
is taken once, while it is fresh, and only about the ticket that it has.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import timedelta
from typing import Any, Literal

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.money import rounded
from calm_tariff.formats.values import load, read
from calm_tariff.services.admit import paying
from calm_tariff.services.admit.desk import expectations, grants, outside_decisions
from calm_tariff.services.admit.desk.conversation import DESK, LONGEST, keep, tell_consumer
from calm_tariff.services.admit.desk.deciding import held
from calm_tariff.services.admit.desk.views import subject
from calm_tariff.services.base import auditing, webhooks
from calm_tariff.services.base.context import Actor, Context, provider_of
from calm_tariff.store.admit.requests import AccessRequest, RequestMessage
from calm_tariff.store.base.locking import locked
from calm_tariff.store.base.record import ReceivedWebhook

# An id is kept for longer than what it was of stays fresh.
KEPT = timedelta(hours=1)
_KINDS = {
    "passed to outside": "request.passed",
    "said": "request.commented",
    "answered": "request.commented",
    "taken back": "request.taken_back",
    "reminded": "request.reminder",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class DeskEvent:
    """An event for the desk: the message that it is of, and the webhook as it is sent."""

    message_id: int
    signed: webhooks.Signed


@dataclass(frozen=True, slots=True, kw_only=True)
class Said:
    """What the desk says of a ticket. `ticket.opened`, `ticket.changed` (its state in a few words), `ticket.commented`
    (by somebody, for the consumer as well where it is `public`), or `ticket.decided`."""

    type: Literal["ticket.opened", "ticket.changed", "ticket.commented", "ticket.decided"]
    timestamp: str
    data: SaidOf


@dataclass(frozen=True, slots=True, kw_only=True)
class SaidOf:
    """Which ticket, by our reference and its own number, and what of it."""

    reference: str
    ticket: str
    state: str = ""
    by: str = ""
    text: str = ""
    public: bool = False
    decision: Literal["granted", "declined"] | None = None
    note: str = ""


def reference_of(request_id: int) -> str:
    """What the desk knows a request by."""
    return f"request-{request_id}"


def next_to_tell(ctx: Context, request_id: int, secret: str) -> DeskEvent | None:
    """The next thing that the desk is to be told of a request, signed at this moment; None where it knows all."""
    with ctx.transaction() as session:
        request = session.get(AccessRequest, request_id)
        if request is None or request.told_outside is None:
            return None
        message = session.scalar(
            select(RequestMessage)
            .where(
                RequestMessage.request_id == request_id,
                RequestMessage.id > request.told_outside,
                RequestMessage.kind.in_(_KINDS),
                RequestMessage.by != DESK,
                (RequestMessage.inside.is_(False)) | (RequestMessage.kind == "reminded"),
                RequestMessage.id >= _passed_at(session, request_id),
            )
            .order_by(RequestMessage.id)
            .limit(1)
        )
        if message is None:
            return None
        body = webhooks.event(_KINDS[message.kind], message.at, _data(session, ctx, request, message))
        key = webhooks.secret_of(secret)
        return DeskEvent(message_id=message.id, signed=webhooks.signed(key, f"msg_{message.id}", ctx.now, body))


def told(ctx: Context, request_id: int, message_id: int) -> None:
    """The desk has taken an event."""
    with ctx.transaction() as session:
        request = locked(session, AccessRequest, request_id)
        if request is not None:
            request.told_outside = max(request.told_outside or 0, message_id)


def receive(ctx: Context, secret: str, body: bytes, fields: Mapping[str, str]) -> None:
    """Take what the desk calls back. Raises `NotSignedIn` for what it did not sign or not of late, `Conflict` for what
    was taken already, `NotFound` for another ticket than the request's, and `Invalid` for what means nothing."""
    event_id = webhooks.verified(webhooks.secret_of(secret), body, fields, ctx.now)
    desk = ctx.acting(Actor(DESK))
    said = read(Said, load(body.decode("utf-8", "replace")))
    of = said.data
    if len(of.ticket) > 40 or not of.ticket:
        raise Invalid("must be 1 to 40 characters", "data.ticket")
    with desk.transaction() as session:
        if not webhooks.take_once(session, ctx, event_id):
            raise Conflict("was taken already", event_id)
        request = held(session, desk, _request_id(of.reference))
        if request is None or request.told_outside is None or request.ticket not in (None, of.ticket):
            raise NotFound("is no ticket of a request here", of.ticket)
        joined = desk.joining(session)
        if request.ticket is None:
            outside_decisions.keep_ticket(joined, request.id, of.ticket)
        if said.type == "ticket.changed":
            _changed(session, joined, request, of.state)
        elif said.type == "ticket.commented":
            _commented(session, joined, request, of)
        elif said.type == "ticket.decided":
            if of.decision is None:
                raise Invalid("must be granted or declined", "data.decision")
            note = of.note.strip()[:LONGEST] or ("" if of.decision == "granted" else "The outside desk declined it.")
            outside_decisions.decide_outside(joined, request.id, of.decision, note)


def forget(ctx: Context) -> None:
    """Forget ids of webhooks that would not be taken any more, because they are too old."""
    with ctx.transaction() as session:
        session.execute(delete(ReceivedWebhook).where(ReceivedWebhook.received_at < ctx.now - KEPT))


def _changed(session: Session, ctx: Context, request: AccessRequest, state: str) -> None:
    state = state.strip()
    if not state or len(state) > 40:
        raise Invalid("must be 1 to 40 characters", "data.state")
    if state != request.ticket_state:
        request.ticket_state, request.edition = state, request.edition + 1
        keep(session, ctx, request, "ticket", f"Ticket {request.ticket}: {state}.", inside=True)


def _commented(session: Session, ctx: Context, request: AccessRequest, of: SaidOf) -> None:
    text = of.text.strip()[:LONGEST]
    if not text:
        raise Invalid("must say something", "data.text")
    words = f"{of.by.strip()[:100]}: {text}" if of.by.strip() else text
    keep(session, ctx, request, "said", words, inside=not of.public)
    request.edition += 1
    if of.public:
        tell_consumer(session, ctx, request, "request message", {"said": text})
    auditing.note(session, ctx, "commented on a ticket", subject(request), why=words)


def _request_id(reference: str) -> int:
    number = reference.removeprefix("request-")
    if not (reference.startswith("request-") and number.isascii() and number.isdigit() and len(number) < 19):
        raise Invalid("must be a reference of ours", "data.reference")
    return int(number)


def _passed_at(session: Session, request_id: int) -> int:
    """The message with which a request was passed there: what was said before is told with it."""
    query = select(RequestMessage.id).where(
        RequestMessage.request_id == request_id, RequestMessage.kind == "passed to outside"
    )
    return session.scalar(query.order_by(RequestMessage.id.desc()).limit(1)) or 0


def _data(session: Session, ctx: Context, request: AccessRequest, message: RequestMessage) -> dict[str, Any]:
    plan, application = request.plan, request.application
    currency = provider_of(session).currency
    data: dict[str, Any] = {"reference": reference_of(request.id), "ticket": request.ticket}
    if message.kind != "passed to outside":
        return {**data, "by": message.by, "text": message.text}
    before = select(RequestMessage).where(
        RequestMessage.request_id == request.id, RequestMessage.id < message.id, RequestMessage.inside.is_(False)
    )
    return {
        **data,
        "title": f"{plan.product.name} · {plan.name} for {application.consumer.name}",
        "organisation": application.consumer.name,
        "application": application.name,
        "product": plan.product.name,
        "plan": plan.name,
        "asked_by": {"name": request.member.name, "email": request.member.email},
        "granted_otherwise": grants.in_words(session, request, grants.of(request)),
        "purpose": request.purpose,
        "expected": [{"meter": e.name, "units": str(e.units)} for e in expectations.of(request)],
        "charge_of_a_month": {"amount": str(rounded(request.weight, currency)), "currency": currency},
        "pays": paying.said(application.consumer),
        "asked_at": request.created_at.isoformat(),
        "due_at": request.due_at.isoformat() if request.due_at else None,
        "said_before": [{"by": m.by, "text": m.text} for m in session.scalars(before.order_by(RequestMessage.id))],
        "page": f"{ctx.web_address}/admit/desk/{request.id}",
        "answer_to": f"{ctx.web_address}/api/v1/ticket-desk/events",
    }
