"""Signing in through the house's outside provider of identities, and which one that is."""

from __future__ import annotations

from fastapi import APIRouter, Depends, Request, Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import COOKIE, Asking
from calm_tariff.edge import outside
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import address_of, begin_session, context_of, same_origin
from calm_tariff.edge.outside import CameBackIn, FactorIn, SentTo
from calm_tariff.services.house.signing_in import identity_provider, outside_sign_in
from calm_tariff.services.house.signing_in.identity_provider import HouseProviderTyped, HouseProviderView

router = APIRouter(tags=["session"], route_class=Again)
_FROM_HERE = [Depends(same_origin)]


class HouseProviderIn(BaseModel):
    """The house's provider, and which roles the values of its claim give."""

    name: str = Field(max_length=1000)
    issuer: str = Field(max_length=1000)
    client_id: str = Field(max_length=1000)
    client_secret: str = Field(default="", max_length=1000)
    role_claim: str = Field(default="", max_length=1000)
    roles_by: dict[str, list[str]] = {}


@router.get("/house/identity-provider")
def provider(ctx: Asking) -> HouseProviderView:
    """The outside provider that people may sign in through."""
    return identity_provider.of_house(ctx)


@router.put("/house/identity-provider")
def set_provider(ctx: Asking, typed: HouseProviderIn) -> HouseProviderView:
    """Have people sign in through an outside provider; without a secret, the one that was kept stays."""
    return identity_provider.set_provider(ctx, HouseProviderTyped(**typed.model_dump()))


@router.delete("/house/identity-provider", status_code=204)
def remove_provider(ctx: Asking) -> None:
    """Take sign-ins from no outside provider any more."""
    identity_provider.remove(ctx)


@router.post("/session/outside", dependencies=_FROM_HERE)
def begin(request: Request, response: Response) -> SentTo:
    """Begin a sign-in through the house's provider: where to go."""
    ctx = context_of(request)
    return outside.send(request, response, ctx, outside_sign_in.begin(ctx, address_of(request)))


@router.post("/session/outside/answer", status_code=204, dependencies=_FROM_HERE)
def answer(request: Request, response: Response, typed: CameBackIn) -> None:
    """Sign in with what the provider answered. 401 with `code` as its place asks for a second factor."""
    outside.of_this_browser(request, typed.state)
    ctx = context_of(request)
    who = outside.whom(ctx, outside_sign_in.waiting(ctx, typed.state), typed.code)
    token = outside_sign_in.answered(ctx, typed.state, who, address_of(request))
    begin_session(request, response, COOKIE, token)


@router.post("/session/outside/code", status_code=204, dependencies=_FROM_HERE)
def show_factor(request: Request, response: Response, typed: FactorIn) -> None:
    """Go on with a code of the second factor."""
    outside.of_this_browser(request, typed.state)
    token = outside_sign_in.go_on(context_of(request), typed.state, typed.code, address_of(request))
    begin_session(request, response, COOKIE, token)
