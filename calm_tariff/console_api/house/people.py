"""The provider's people."""

from __future__ import annotations

from fastapi import APIRouter

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.services.house import people
from calm_tariff.services.house.people import Colleague

router = APIRouter(tags=["house"], route_class=Again)


@router.get("/people")
def list_people(ctx: Asking) -> list[Colleague]:
    """The provider's people, by name."""
    return people.colleagues(ctx)
