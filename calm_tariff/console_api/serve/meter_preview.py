"""A meter's filter held against recorded history."""

from __future__ import annotations

from fastapi import APIRouter

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.console_api.compose.meters import FilterIn
from calm_tariff.edge.again import Again
from calm_tariff.services.serve import meter_preview
from calm_tariff.services.serve.meter_preview import Preview

router = APIRouter(tags=["meters"], route_class=Again)


class PreviewIn(FilterIn):
    """A filter to try; `meter_id` is the stored meter it would replace."""

    meter_id: int | None = None


@router.post("/meters/preview")
def preview_meter(ctx: Asking, wanted: PreviewIn) -> Preview:
    """What a filter would have counted over the last 30 days. Nothing is kept or charged."""
    return meter_preview.preview(ctx, wanted.typed(), wanted.meter_id)
