"""Closing a consumer's account by the provider's word."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.services.settle import closing
from calm_tariff.services.settle.closing import ClosingView

router = APIRouter(tags=["consumers"], route_class=Again)


class ClosingByNameIn(BaseModel):
    """The organisation's name, as it is."""

    name: str = Field(max_length=200)


@router.get("/consumers/{consumer_id}/closing")
def consequences(ctx: Asking, consumer_id: int) -> ClosingView:
    """What closing its account would bring with it."""
    return closing.consequences_for(ctx, consumer_id)


@router.post("/consumers/{consumer_id}/closing", status_code=204)
def close(ctx: Asking, consumer_id: int, typed: ClosingByNameIn) -> None:
    """Close its account; its members are told."""
    closing.close_for(ctx, consumer_id, typed.name)
