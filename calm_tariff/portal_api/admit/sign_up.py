"""Signing up."""

from __future__ import annotations

from fastapi import APIRouter, Depends, Request, Response
from pydantic import BaseModel, Field

from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import address_of, begin_session, same_origin
from calm_tariff.portal_api.base.asking import COOKIE, Stranger
from calm_tariff.services.admit import sign_up
from calm_tariff.services.admit.portals import handing_over
from calm_tariff.services.admit.sign_up import SignUpTyped

router = APIRouter(route_class=Again)


class SignUpIn(BaseModel):
    """Whose account it is to be."""

    email: str = Field(max_length=1000)


class ConfirmIn(BaseModel):
    """What somebody types whose letter has come, with the letter's token."""

    token: str = Field(max_length=200)
    name: str = Field(max_length=200)
    organisation: str = Field(max_length=200)
    password: str = Field(max_length=1000)


@router.post("/sign-up", status_code=204, dependencies=[Depends(same_origin)])
def sign_up_(request: Request, ctx: Stranger, typed: SignUpIn) -> None:
    """Have a letter sent with which an account can be made. The answer is the same for every address."""
    handing_over.refuse_sign_up(ctx)
    sign_up.ask(ctx, typed.email, address_of(request))


@router.post("/sign-up/confirm", status_code=204, dependencies=[Depends(same_origin)])
def confirm(request: Request, response: Response, ctx: Stranger, typed: ConfirmIn) -> None:
    """Make an account for an organisation by the token of a letter, and sign in."""
    chosen = SignUpTyped(name=typed.name, organisation=typed.organisation, password=typed.password)
    token = sign_up.confirm(ctx, typed.token, chosen, address_of(request))
    begin_session(request, response, COOKIE, token)
