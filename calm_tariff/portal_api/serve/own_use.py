"""What one used of a product."""

from __future__ import annotations

from fastapi import APIRouter

from calm_tariff.edge.again import Again
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.serve import own_use
from calm_tariff.services.serve.own_use import OwnUse

router = APIRouter(route_class=Again)


@router.get("/products/{slug}/own-use")
def own_use_of(ctx: Asking, slug: str) -> OwnUse:
    """What one's organisation used of a product last month."""
    return own_use.last_month(ctx, slug)
