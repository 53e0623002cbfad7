"""Allowances."""

from __future__ import annotations

from fastapi import APIRouter
from fastapi.responses import Response

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.observe import allowances
from calm_tariff.services.observe.allowances import Gauge
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["observe"], route_class=Again)


@router.get("/allowances")
def list_allowances(ctx: Asking, asked: Paged) -> Page[Gauge]:
    """Every allowance, the fullest first."""
    return allowances.everyone(ctx, asked)


@router.get("/allowances.csv", response_class=Response)
def export_allowances(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    return as_csv("allowances", Gauge, all_of(lambda part: allowances.everyone(ctx, part), asked))
