"""What the running month comes to."""

from __future__ import annotations

from fastapi import APIRouter, Response

from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import as_csv
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.settle import running_month
from calm_tariff.services.settle.running_month import RunningLine, RunningMonth

router = APIRouter(route_class=Again)


@router.get("/running-month")
def running(ctx: Asking) -> RunningMonth:
    """The running month by what is recorded now, line by line, and by its end, should use go on as it has."""
    return running_month.running(ctx)


@router.get("/running-month.csv", response_class=Response)
def running_file(ctx: Asking) -> Response:
    """The lines of the running month as a file."""
    return as_csv("running-month", RunningLine, running_month.running(ctx).lines)
