"""Limits above all plans."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import Edition
from calm_tariff.services.compose import house_limits
from calm_tariff.services.compose.house_limits import HouseView

router = APIRouter(tags=["APIs"], route_class=Again)


class LimitsIn(BaseModel):
    """Limits, in the shape of `core.limits`; `api_version_id` is absent for provider-wide ones."""

    api_version_id: int | None = None
    limits: list[dict[str, Any]]


@router.get("/limits")
def list_limits(ctx: Asking) -> list[HouseView]:
    """The limits above all plans."""
    return house_limits.everything(ctx)


@router.put("/limits")
def save_limits(ctx: Asking, edition: Edition, wanted: LimitsIn) -> HouseView:
    """Keep the limits of one place above the plans."""
    return house_limits.save(ctx, wanted.api_version_id, edition, wanted.limits)
