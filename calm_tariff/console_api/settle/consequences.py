"""What the drafts of a sheet would do to charges."""

from __future__ import annotations

from fastapi import APIRouter

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.services.settle import consequences
from calm_tariff.services.settle.consequences import Consequences

router = APIRouter(tags=["products"], route_class=Again)


@router.get("/products/{product_id}/consequences")
def read_consequences(ctx: Asking, product_id: int) -> Consequences:
    """The sheet's margin."""
    return consequences.consequences(ctx, product_id)
