"""Requests that an outside system decides, by the tickets it has for them."""

from __future__ import annotations

from calm_tariff.core.errors import Conflict, Deadlocked, Invalid
from calm_tariff.services.admit.requests import Decision, RequestView, carry_out, held, subject, view
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.requests import AccessRequest


def passed(ctx: Context, request_id: int) -> RequestView | None:
    """A request that the outside system has still to decide on; None where it is decided or taken back."""
    with ctx.transaction() as session:
        request = session.get(AccessRequest, request_id)
        return view(request) if request is not None and request.state == "passed to outside" else None


def keep_ticket(ctx: Context, request_id: int, ticket: str) -> None:
    """Note the ticket the outside system has opened for a request."""
    with ctx.transaction() as session:
        request = session.get_one(AccessRequest, request_id)
        request.ticket = ticket
        auditing.note(session, ctx, f"opened ticket {ticket}", subject(request))


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
            carry_out(session, ctx, request, decision, note)
