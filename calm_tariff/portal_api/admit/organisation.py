"""One's organisation: who belongs to it, and who is invited."""

from __future__ import annotations

from fastapi import APIRouter, Depends, Request, Response
from pydantic import BaseModel, Field

from calm_tariff.core.membership import Role
from calm_tariff.core.payment import payment
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import address_of, begin_session, context_of, end_session, same_origin
from calm_tariff.edge.payment import PaymentIn
from calm_tariff.portal_api.base.asking import COOKIE, Asking, Here
from calm_tariff.services.admit import paying
from calm_tariff.services.admit.organisation import belonging, joining
from calm_tariff.services.admit.organisation.belonging import Invited, OrganisationView
from calm_tariff.services.admit.organisation.joining import InvitationSeen, Joining

router = APIRouter(route_class=Again)


class InvitationIn(BaseModel):
    """Whom to invite, and as what."""

    email: str = Field(max_length=1000)
    role: Role


class RoleIn(BaseModel):
    """What somebody is to be."""

    role: Role


class OwnerIn(BaseModel):
    """Who is to own the account, by the id of the member."""

    to: int


class LetterIn(BaseModel):
    """The token of the letter of an invitation."""

    token: str = Field(max_length=200)


class JoiningIn(LetterIn):
    """What somebody types who accepts an invitation."""

    name: str = Field(max_length=200)
    password: str = Field(max_length=1000)


@router.get("/organisation")
def organisation(ctx: Asking) -> OrganisationView:
    """Whose account it is, who belongs to it and, for its owners, who is invited."""
    return belonging.organisation(ctx)


@router.post("/invitations", status_code=201)
def invite(ctx: Asking, typed: InvitationIn) -> Invited:
    """Have a letter sent with which somebody can belong to the organisation."""
    return joining.invite(ctx, typed.email, typed.role)


@router.delete("/invitations/{invitation_id}", status_code=204)
def take_back(ctx: Asking, invitation_id: int) -> None:
    """Make the letter of an invitation good no more."""
    joining.take_back(ctx, invitation_id)


@router.put("/members/{member_id}/role")
def set_role(ctx: Asking, member_id: int, typed: RoleIn) -> OrganisationView:
    """Give somebody another role."""
    belonging.set_role(ctx, member_id, typed.role)
    return belonging.organisation(ctx)


@router.delete("/members/{member_id}")
def remove(ctx: Asking, member_id: int) -> OrganisationView:
    """End that somebody else belongs to the organisation."""
    belonging.remove(ctx, member_id)
    return belonging.organisation(ctx)


@router.put("/organisation/owner", status_code=204)
def hand_over(ctx: Asking, typed: OwnerIn) -> None:
    """Make somebody else the owner in one's own place."""
    belonging.hand_over(ctx, typed.to)


@router.put("/organisation/payment")
def pay(ctx: Asking, typed: PaymentIn) -> OrganisationView:
    """Say how the organisation's invoices are paid from now on."""
    ctx.actor.consumer_to("say how it pays")
    paying.change(ctx, payment(typed.method, typed.order_number, field=""))
    return belonging.organisation(ctx)


@router.delete("/membership", status_code=204)
def leave(request: Request, response: Response, ctx: Asking) -> None:
    """Leave the organisation, and be signed out."""
    belonging.leave(ctx)
    end_session(request, response, COOKIE)


@router.post("/joining/look", dependencies=[Depends(same_origin)])
def seen(request: Request, portal: Here, typed: LetterIn) -> InvitationSeen:
    """What an invitation says, by the token of its letter."""
    return joining.seen(context_of(request), portal, typed.token, address_of(request))


@router.post("/joining", status_code=204, dependencies=[Depends(same_origin)])
def join(request: Request, response: Response, portal: Here, typed: JoiningIn) -> None:
    """Accept an invitation by the token of its letter, and sign in."""
    chosen = Joining(token=typed.token, name=typed.name, password=typed.password)
    token = joining.accept(context_of(request), portal, chosen, address_of(request))
    begin_session(request, response, COOKIE, token)
