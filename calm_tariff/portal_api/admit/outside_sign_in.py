"""Signing in through the portal's outside provider of identities (OpenID Connect, code flow with a proof key)."""

from __future__ import annotations

from fastapi import APIRouter, Depends, Request, Response
from pydantic import BaseModel, Field

from calm_tariff.edge import outside
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import (
    address_of,
    begin_session,
    context_of,
    same_origin,
)
from calm_tariff.edge.outside import CameBackIn, FactorIn, SentTo
from calm_tariff.portal_api.base.asking import COOKIE, Asking, Here, Stranger
from calm_tariff.services.admit import outside_sign_in
from calm_tariff.services.admit.outside_sign_in import CameBack, IdentityView

router = APIRouter(tags=["session"], route_class=Again)
_FROM_HERE = [Depends(same_origin)]


class AccountIn(BaseModel):
    """The account of whoever came back and has none."""

    state: str = Field(max_length=200)
    name: str = Field(max_length=200)
    organisation: str = Field(max_length=200)


class Entered(BaseModel):
    """Whether somebody is signed in now; who is not has no account yet, and may make one as this name and address."""

    entered: bool
    email: str
    name: str


@router.post("/session/outside", dependencies=_FROM_HERE)
def begin(request: Request, response: Response, portal: Here) -> SentTo:
    """Begin a sign-in through the portal's provider: where to go."""
    ctx = context_of(request)
    return outside.send(request, response, ctx, outside_sign_in.begin(ctx, portal, address_of(request)))


@router.post("/session/outside/answer", dependencies=_FROM_HERE)
def answer(request: Request, response: Response, portal: Here, ctx: Stranger, typed: CameBackIn) -> Entered:
    """Sign in with what the provider answered. 401 with `code` as its place asks for a second factor."""
    outside.of_this_browser(request, typed.state)
    who = outside.whom(ctx, outside_sign_in.waiting(ctx, portal, typed.state), typed.code)
    return _entered(request, response, outside_sign_in.answered(ctx, portal, typed.state, who, address_of(request)))


@router.post("/session/outside/code", dependencies=_FROM_HERE)
def show_factor(request: Request, response: Response, portal: Here, ctx: Stranger, typed: FactorIn) -> Entered:
    """Go on with a code of the second factor."""
    outside.of_this_browser(request, typed.state)
    came = outside_sign_in.go_on(ctx, portal, typed.state, typed.code, address_of(request))
    return _entered(request, response, came)


@router.post("/session/outside/account", status_code=204, dependencies=_FROM_HERE)
def open_account(request: Request, response: Response, portal: Here, ctx: Stranger, typed: AccountIn) -> None:
    """Make the account of whoever came back and has none, and sign in."""
    outside.of_this_browser(request, typed.state)
    token = outside_sign_in.open_account(ctx, portal, typed.state, typed.name, typed.organisation)
    begin_session(request, response, COOKIE, token)


@router.get("/outside-sign-ins")
def own(ctx: Asking) -> list[IdentityView]:
    """Through which providers one signs in."""
    return outside_sign_in.own(ctx)


@router.delete("/outside-sign-ins/{identity_id}", status_code=204)
def unlink(ctx: Asking, identity_id: int) -> None:
    """Sign in through a provider no more."""
    outside_sign_in.unlink(ctx, identity_id)


def _entered(request: Request, response: Response, came: CameBack) -> Entered:
    if came.token:
        begin_session(request, response, COOKIE, came.token)
    return Entered(entered=bool(came.token), email=came.email, name=came.name)
