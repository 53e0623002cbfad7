"""One's own allowances."""

from __future__ import annotations

from fastapi import APIRouter

from calm_tariff.edge.again import Again
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.observe import allowances
from calm_tariff.services.observe.allowances import Gauge

router = APIRouter(route_class=Again)


@router.get("/allowances")
def own_allowances(ctx: Asking) -> list[Gauge]:
    """One's allowances."""
    return allowances.own(ctx)
