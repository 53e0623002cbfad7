"""Looking at a portal as a consumer does."""

from __future__ import annotations

from fastapi import APIRouter

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.services.admit import looking
from calm_tariff.services.admit.looking import Door

router = APIRouter(tags=["consumers"], route_class=Again)


@router.post("/consumers/{consumer_id}/looking", status_code=201)
def ask(ctx: Asking, consumer_id: int) -> Door:
    """Where one sees the portal as this consumer does, read only: an address that is good once, for two minutes."""
    return looking.ask(ctx, consumer_id)
