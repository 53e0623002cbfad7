"""What files of usage come to, by month and consumer."""

from __future__ import annotations

from fastapi import APIRouter

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.services.settle import usage_consequences
from calm_tariff.services.settle.usage_consequences import UsageMonth

router = APIRouter(tags=["settle"], route_class=Again)


@router.get("/usage/files/{usage_file_id}/months")
def list_months(ctx: Asking, usage_file_id: int) -> list[UsageMonth]:
    """What a file has that can be used, by month and consumer, and which of these are charged already."""
    return usage_consequences.months(ctx, usage_file_id)
