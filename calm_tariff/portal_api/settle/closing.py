"""Closing one's account."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Depends, Request
from pydantic import BaseModel, Field

from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import address_of
from calm_tariff.portal_api.base.asking import Asking, members_here
from calm_tariff.services.house.signing_in.realms import Realm
from calm_tariff.services.settle import closing
from calm_tariff.services.settle.closing import ClosingView

router = APIRouter(route_class=Again)


class ClosingIn(BaseModel):
    """The organisation's name, as it is, and the present password."""

    name: str = Field(max_length=200)
    password: str = Field(max_length=1000)


@router.get("/organisation/closing")
def consequences(ctx: Asking) -> ClosingView:
    """What closing the account would bring with it."""
    return closing.consequences(ctx)


@router.post("/organisation/closing", status_code=204)
def close(request: Request, ctx: Asking, realm: Annotated[Realm, Depends(members_here)], typed: ClosingIn) -> None:
    """Close the account."""
    closing.close(ctx, realm, typed.name, typed.password, address_of(request))
