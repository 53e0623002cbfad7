"""How the APIs of products have answered."""

from __future__ import annotations

from fastapi import APIRouter

from calm_tariff.edge.again import Again
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.observe import answering
from calm_tariff.services.observe.answering import VersionAnswered

router = APIRouter(route_class=Again)


@router.get("/products/{slug}/answering")
def of_product(ctx: Asking, slug: str) -> list[VersionAnswered]:
    """How a product's versions have answered by day."""
    return answering.of_product(ctx, slug)
