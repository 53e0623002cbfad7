"""The card that one's invoices are paid by."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Depends, Request
from pydantic import BaseModel

from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import IdempotencyKey
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.admit import cards
from calm_tariff.services.admit.cards import CardView, PageToGoTo
from calm_tariff.services.base.processor import Processor
from calm_tariff.services.settle.cards import planning
from calm_tariff.services.settle.cards.planning import Planned

router = APIRouter(route_class=Again)


class CardPaying(BaseModel):
    """Whether cards are taken here, and the one that invoices are paid by, where there is one."""

    taken: bool
    card: CardView | None


def connected(request: Request) -> Processor | None:
    """The payment processor, where one is connected."""
    processor: Processor | None = request.app.state.processor
    return processor


Connected = Annotated[Processor | None, Depends(connected)]


@router.get("/card")
def own_card(ctx: Asking, processor: Connected) -> CardPaying:
    """The card that one's invoices are paid by."""
    return CardPaying(taken=processor is not None, card=cards.own(ctx))


@router.post("/card/begin")
def begin(ctx: Asking, processor: Connected) -> PageToGoTo:
    """Where one goes on to give a card: the payment processor's own page. No card number comes here."""
    return cards.begin(ctx, processor)


@router.post("/card/finish")
def finish(ctx: Asking, processor: Connected) -> CardPaying:
    """Pay by the card that was given there."""
    return CardPaying(taken=True, card=cards.finish(ctx, processor))


@router.delete("/card", status_code=204)
def remove(ctx: Asking, processor: Connected) -> None:
    """Pay by card no more, and by transfer instead."""
    cards.remove(ctx, processor)


@router.post("/invoices/{invoice_id}/pay", status_code=201)
def pay(ctx: Asking, invoice_id: int, idempotency_key: IdempotencyKey = None) -> Planned:
    """Take what is open of one's own invoice from one's card, now."""
    return planning.pay_own(ctx, invoice_id, idempotency_key)
