"""Today, the counts beside places and pages, the finder."""

from __future__ import annotations

from fastapi import APIRouter

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.services.observe import finder
from calm_tariff.services.observe import today as todays
from calm_tariff.services.observe.finder import Found
from calm_tariff.services.observe.today import Counts, Today

router = APIRouter(tags=["session"], route_class=Again)


@router.get("/today")
def today(ctx: Asking) -> Today:
    """What needs a person now."""
    return todays.today(ctx)


@router.get("/counts")
def counts(ctx: Asking) -> Counts:
    """Counts beside places and pages."""
    return todays.counts(ctx)


@router.get("/find")
def find(ctx: Asking, words: str) -> list[Found]:
    """The finder."""
    return finder.find(ctx, words)
