"""Merging one organisation into another."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.services.observe import merging
from calm_tariff.services.observe.merging import MergingView

router = APIRouter(tags=["consumers"], route_class=Again)


class MergingIn(BaseModel):
    """The name of the organisation that is merged into the other, as it is."""

    name: str = Field(max_length=200)


@router.get("/consumers/{consumer_id}/merging/{into_id}")
def consequences(ctx: Asking, consumer_id: int, into_id: int) -> MergingView:
    """What merging it into another organisation would bring with it."""
    return merging.consequences(ctx, consumer_id, into_id)


@router.post("/consumers/{consumer_id}/merging/{into_id}", status_code=204)
def merge(ctx: Asking, consumer_id: int, into_id: int, typed: MergingIn) -> None:
    """Merge it into another organisation, which goes on in its place; the members of both are told."""
    merging.merge(ctx, consumer_id, into_id, typed.name)
