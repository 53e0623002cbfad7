"""Looking at the portal as a consumer does, for the provider's people."""

from __future__ import annotations

from fastapi import APIRouter, Depends, Request, Response
from pydantic import BaseModel, Field

from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import context_of, end_session, keep_in_browser, kept_in_browser, same_origin
from calm_tariff.portal_api.base.asking import LOOKING, Here
from calm_tariff.services.admit import looking

router = APIRouter(route_class=Again, dependencies=[Depends(same_origin)])


class LookingIn(BaseModel):
    """The token of an address that is good once."""

    token: str = Field(max_length=200)


@router.post("/looking", status_code=204)
def begin(request: Request, response: Response, portal: Here, typed: LookingIn) -> None:
    """Begin to look, by the token of an address from the console."""
    token = looking.begin(context_of(request), portal, typed.token)
    keep_in_browser(request, response, LOOKING, token, int(looking.LASTS.total_seconds()))


@router.delete("/looking", status_code=204)
def end(request: Request, response: Response) -> None:
    """Look no more."""
    looking.end(context_of(request), kept_in_browser(request, LOOKING))
    end_session(request, response, LOOKING)
