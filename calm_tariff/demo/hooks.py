"""Who hears what happens in the demo: the office's chat room, and the ledger of its accountant."""

from __future__ import annotations

from calm_tariff.services.base.context import Context
from calm_tariff.services.house import endpoints
from calm_tariff.services.house.endpoints import EndpointTyped


def let_others_hear(ctx: Context, standins: str) -> None:
    """Make their endpoints; they are told what happens from here on."""
    room = EndpointTyped(
        name="The office's room",
        form="chat message",
        url=f"{standins}/chat/rooms/office",
        wants=("request.*", "consumer.signed_up", "consumer.suspended", "question.asked", "allowance.*"),
    )
    ledger = EndpointTyped(
        name="The accountant's ledger",
        url=f"{standins}/listener",
        wants=("subscription.*", "invoice.*", "charge_run.*", "consumer.payment_said"),
    )
    for typed in (room, ledger):
        endpoints.make(ctx, typed)
