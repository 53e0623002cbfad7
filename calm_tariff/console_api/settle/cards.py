"""Collecting by card: attempts, refunds to cards, and what the payment processor says."""

from __future__ import annotations

from decimal import Decimal
from functools import partial

from fastapi import APIRouter, Request
from fastapi.responses import Response
from pydantic import BaseModel

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core.errors import NotSignedIn
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import IdempotencyKey
from calm_tariff.edge.bodies import WholeBody
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.settle.cards import hearing, planning, refunding, showing
from calm_tariff.services.settle.cards.planning import Planned
from calm_tariff.services.settle.cards.refunding import CardRefundView
from calm_tariff.services.settle.cards.showing import AttemptView
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["settle"], route_class=Again)


class CardRefundIn(BaseModel):
    """How much credit on account goes back to a card."""

    amount: Decimal


@router.get("/payment-attempts")
def list_attempts(ctx: Asking, asked: Paged) -> Page[AttemptView]:
    """Attempts to take money from cards. Orders: newest, oldest, amount."""
    return showing.listed(ctx, asked)


@router.get("/payment-attempts.csv", response_class=Response)
def export_attempts(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    rows = all_of(partial(showing.listed, ctx), asked)
    return as_csv("payment-attempts", AttemptView, rows, left_out=("id", "invoice_id", "consumer_id"))


@router.post("/invoices/{invoice_id}/payment-attempts", status_code=201)
def try_card(ctx: Asking, invoice_id: int, idempotency_key: IdempotencyKey = None) -> Planned:
    """Take what is open of an invoice from its consumer's card, now."""
    return planning.try_now(ctx, invoice_id, idempotency_key)


@router.post("/accounts/{consumer_id}/card-refunds", status_code=201)
def refund_to_card(
    ctx: Asking, consumer_id: int, typed: CardRefundIn, idempotency_key: IdempotencyKey = None
) -> CardRefundView:
    """Pay credit on account out to the card that it came from."""
    return refunding.refund(ctx, consumer_id, typed.amount, idempotency_key)


@router.post("/payment-processor/events", status_code=204)
def take_event(request: Request, body: WholeBody) -> None:
    """What the payment processor says has happened: a webhook that it has signed (Standard Webhooks), taken once.
    `card.kept`, `charge.taken`, `charge.failed`, `refund.paid_out`, `refund.failed`, `dispute.opened`, `dispute.won`
    or `dispute.lost`."""
    processor = request.app.state.processor
    if processor is None:
        raise NotSignedIn("no payment processor is connected here")
    hearing.take(request.app.state.ctx, processor, body, request.headers)
