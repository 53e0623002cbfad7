"""Receipts of calls."""

from __future__ import annotations

from fastapi import APIRouter

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.services.serve import receipts
from calm_tariff.services.serve.receipts import Receipt

router = APIRouter(tags=["observe"], route_class=Again)


@router.get("/calls/{call_id}/receipt")
def read_receipt(ctx: Asking, call_id: str) -> Receipt:
    """The receipt of one call."""
    return receipts.receipt(ctx, call_id)
