"""Requests that an outside system decides, by the tickets it has for them."""

from __future__ import annotations

from datetime import timedelta

from calm_tariff.core.errors import Conflict, Deadlocked, Invalid
from calm_tariff.services.admit.desk import grants
from calm_tariff.services.admit.desk.conversation import DESK, keep, tell_consumer
from calm_tariff.services.admit.desk.deciding import Decision, carry_out, held
from calm_tariff.services.admit.desk.views import RequestView, subject, view
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import SYSTEM, Actor, Context
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.base.locking import locked

REMINDED_EVERY = timedelta(days=3)


def passed(ctx: Context, request_id: int) -> RequestView | None:
    """A request that the outside system has still to decide on; None where it is decided or taken back."""
    with ctx.transaction() as session:
        request = session.get(AccessRequest, request_id)
        return view(request, ctx.now) if request is not None and request.state == "passed to outside" else None


def keep_ticket(ctx: Context, request_id: int, ticket: str) -> None:
    """Note the ticket the outside system has opened for a request."""
    with ctx.transaction() as session:
        ctx, request = ctx.acting(Actor(DESK)), session.get_one(AccessRequest, request_id)
        request.ticket = ticket
        request.edition += 1
        keep(session, ctx, request, "ticket", f"Ticket {ticket}.")
        tell_consumer(session, ctx, request, "request goes on", {"said": f"It is ticket {ticket} at the ticket desk."})
        auditing.note(session, ctx, f"opened ticket {ticket}", subject(request))


def remind(ctx: Context, request_id: int) -> None:
    """Remind the outside system of a request that is past its target, and again every few days. It is never granted by
    that."""
    with ctx.transaction() as session:
        request = locked(session, AccessRequest, request_id)
        if request is None or request.state != "passed to outside" or request.due_at is None:
            return
        since = request.reminded_at
        if ctx.now < request.due_at or (since is not None and ctx.now < since + REMINDED_EVERY):
            return
        request.reminded_at = ctx.now
        words = "It should have been answered by now."
        keep(session, ctx.acting(SYSTEM), request, "reminded", words, inside=True)
        auditing.note(session, ctx.acting(SYSTEM), "reminded the ticket desk", subject(request))


def decide_outside(ctx: Context, request_id: int, decision: Decision, note: str) -> None:
    """Carry out what the outside system has decided. One decided or taken back meanwhile stays as it is; a grant of a
    move that cannot be made any more is a decline that says why."""
    try:
        _carry_out(ctx, request_id, decision, note)
    except (Conflict, Invalid) as refused:
        if isinstance(refused, Deadlocked):
            raise
        _carry_out(ctx, request_id, "declined", f"{note} It cannot be made any more: {refused}.".strip())


def _carry_out(ctx: Context, request_id: int, decision: Decision, note: str) -> None:
    with ctx.transaction() as session:
        request = held(session, ctx, request_id)
        if request is not None and request.state == "passed to outside":
            with auditing.apart(session):  # what cannot be made leaves nothing behind
                request.edition += 1
                desk, grant = ctx.acting(Actor(DESK)), grants.of(request)
                carry_out(session, desk, request, decision, note, grant=grant)
