"""Requests that an outside system decides, by the tickets it has for them."""

from __future__ import annotations

from sqlalchemy import select

from calm_tariff.services.admit.requests import Decision, RequestView, carry_out, subject, view
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.requests import AccessRequest


def without_ticket(ctx: Context) -> list[RequestView]:
    """Requests for the outside system that have no ticket there yet."""
    with ctx.transaction() as session:
        query = select(AccessRequest).where(AccessRequest.state == "passed to outside", AccessRequest.ticket.is_(None))
        return [view(r) for r in session.scalars(query)]


def with_ticket(ctx: Context) -> list[RequestView]:
    """Requests whose outside ticket is not decided yet."""
    with ctx.transaction() as session:
        query = select(AccessRequest).where(
            AccessRequest.state == "passed to outside", AccessRequest.ticket.is_not(None)
        )
        return [view(r) for r in session.scalars(query)]


def keep_ticket(ctx: Context, request_id: int, ticket: str) -> None:
    """Note the ticket the outside system has opened for a request."""
    with ctx.transaction() as session:
        request = session.get_one(AccessRequest, request_id)
        request.ticket = ticket
        auditing.note(session, ctx, f"opened ticket {ticket}", subject(request))


def decide_outside(ctx: Context, request_id: int, decision: Decision, note: str) -> None:
    """Carry out what the outside system has decided. One decided or taken back meanwhile stays as it is."""
    with ctx.transaction() as session:
        request = session.get_one(AccessRequest, request_id, with_for_update={"of": AccessRequest})
        if request.state == "passed to outside":
            carry_out(session, ctx, request, decision, note)
