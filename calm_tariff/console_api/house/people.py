"""The provider's people: who they are, what each may do, who was invited, and how one comes in."""

from __future__ import annotations

from fastapi import APIRouter, Depends, Request, Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import COOKIE, Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import address_of, begin_session, context_of, same_origin
from calm_tariff.services.house import inviting, people
from calm_tariff.services.house.inviting import ComingIn, InvitedView, LetterSeen
from calm_tariff.services.house.people import Colleague, PersonView
from calm_tariff.services.house.signing_in.sessions import SessionView

router = APIRouter(tags=["house"], route_class=Again)
_FROM_HERE = [Depends(same_origin)]


class RolesIn(BaseModel):
    """The roles of somebody, at least one."""

    roles: list[str]


class InvitationIn(RolesIn):
    """Whom to invite, as what."""

    email: str = Field(max_length=1000)


class JoiningLetter(BaseModel):
    """The token of the letter of an invitation."""

    token: str = Field(max_length=200)


class JoiningIn(JoiningLetter):
    """The sign-in that whoever has the letter makes."""

    name: str = Field(max_length=1000)
    password: str = Field(max_length=1000)


class FactorRule(BaseModel):
    """Whether everybody of the provider's must have a second factor."""

    required: bool


@router.get("/people")
def list_people(ctx: Asking) -> list[Colleague]:
    """The provider's people who can sign in, by name."""
    return people.colleagues(ctx)


@router.get("/house/people")
def everybody(ctx: Asking) -> list[PersonView]:
    """The provider's people with what guards their sign-in, also those who were deactivated."""
    return people.everybody(ctx)


@router.put("/house/people/{person_id}/roles")
def set_roles(ctx: Asking, person_id: int, wanted: RolesIn) -> PersonView:
    """Let somebody have other roles; somebody must own the house."""
    return people.set_roles(ctx, person_id, wanted.roles)


@router.put("/house/people/{person_id}/deactivation")
def deactivate(ctx: Asking, person_id: int) -> PersonView:
    """Let somebody sign in no more; somebody must own the house."""
    return people.deactivate(ctx, person_id)


@router.delete("/house/people/{person_id}/deactivation")
def let_in_again(ctx: Asking, person_id: int) -> PersonView:
    """Let somebody who was deactivated sign in again."""
    return people.let_in_again(ctx, person_id)


@router.get("/house/people/{person_id}/sessions")
def sessions_of(ctx: Asking, person_id: int) -> list[SessionView]:
    """Where somebody is signed in."""
    return people.sessions_of(ctx, person_id)


@router.delete("/house/people/{person_id}/sessions")
def end_sessions(ctx: Asking, person_id: int) -> PersonView:
    """End all sessions of somebody."""
    return people.end_sessions(ctx, person_id)


@router.delete("/house/people/{person_id}/second-factor")
def take_factor(ctx: Asking, person_id: int) -> PersonView:
    """Turn off the second factor of somebody who has lost it."""
    return people.take_factor(ctx, person_id)


@router.get("/house/second-factor")
def factor_rule(ctx: Asking) -> FactorRule:
    """Whether everybody must have a second factor."""
    return FactorRule(required=people.factor_required(ctx))


@router.put("/house/second-factor", status_code=204)
def require_factor(ctx: Asking, wanted: FactorRule) -> None:
    """Have everybody show a second factor, or no more."""
    people.require_factor(ctx, wanted.required)


@router.get("/house/invitations")
def invited(ctx: Asking) -> list[InvitedView]:
    """Who was invited and has not come, the last first."""
    return inviting.everyone(ctx)


@router.post("/house/invitations", status_code=201)
def invite(ctx: Asking, wanted: InvitationIn) -> InvitedView:
    """Write to somebody how to come in; another letter makes the one before good no more."""
    return inviting.invite(ctx, wanted.email, wanted.roles)


@router.delete("/house/invitations/{invitation_id}", status_code=204)
def take_back(ctx: Asking, invitation_id: int) -> None:
    """Make the letter of an invitation good no more."""
    inviting.take_back(ctx, invitation_id)


@router.post("/joining/look", dependencies=_FROM_HERE)
def look(request: Request, letter: JoiningLetter) -> LetterSeen:
    """What an invitation says, for whoever has its letter."""
    return inviting.seen(context_of(request), letter.token, address_of(request))


@router.post("/joining", status_code=204, dependencies=_FROM_HERE)
def join(request: Request, response: Response, typed: JoiningIn) -> None:
    """Make the sign-in of whoever has the letter, and sign them in."""
    wanted = ComingIn(token=typed.token, name=typed.name, password=typed.password)
    begin_session(request, response, COOKIE, inviting.accept(context_of(request), wanted, address_of(request)))
