"""What the ticket desk calls back."""

from __future__ import annotations

from fastapi import APIRouter, Request

from calm_tariff.core.errors import NotSignedIn
from calm_tariff.edge.again import Again
from calm_tariff.edge.bodies import WholeBody
from calm_tariff.services.admit.desk import outside_events

router = APIRouter(tags=["admit"], route_class=Again)


@router.post("/ticket-desk/events", status_code=204)
def take_event(request: Request, body: WholeBody) -> None:
    """What the ticket desk says of a ticket: a webhook that it has signed (Standard Webhooks), taken once. It is about
    a `reference` of ours and a `ticket` of its own: `ticket.opened`, `ticket.changed` with a `state`,
    `ticket.commented` with `by`, `text` and `public`, or `ticket.decided` with a `decision` and a `note`."""
    settings = request.app.state.settings
    if not settings.ticket_desk_address or not settings.ticket_desk_secret:
        raise NotSignedIn("no ticket desk is asked here")
    outside_events.receive(request.app.state.ctx, settings.ticket_desk_secret, body, request.headers)
