"""Receipts of one's own calls."""

from __future__ import annotations

from fastapi import APIRouter

from calm_tariff.edge.again import Again
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.serve import receipts
from calm_tariff.services.serve.receipts import Receipt

router = APIRouter(route_class=Again)


@router.get("/calls/{call_id}/receipt")
def own_receipt(ctx: Asking, call_id: str) -> Receipt:
    """The receipt of one's own call."""
    return receipts.own_receipt(ctx, call_id)
