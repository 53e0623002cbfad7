"""On the way to the provider's own site, and what its documentation asks."""

from __future__ import annotations

from fastapi import APIRouter, Depends, Request
from fastapi.concurrency import run_in_threadpool
from pydantic import BaseModel, Field

from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import context_of, same_origin
from calm_tariff.portal_api.base.asking import Asking, Here, Stranger
from calm_tariff.services.admit import personal
from calm_tariff.services.admit.personal import PersonalApplication
from calm_tariff.services.admit.portals import handing_over

router = APIRouter(route_class=Again)


class Elsewhere(BaseModel):
    """Where to go on."""

    address: str


class ChosenPlan(BaseModel):
    """A plan that was chosen, for an application where one is meant already."""

    plan_id: int
    application_id: int | None = None


class WhoseIn(BaseModel):
    """Whose applications are asked for."""

    email: str = Field(max_length=1000)


@router.post("/sign-up/elsewhere", dependencies=[Depends(same_origin)])
def sign_up_elsewhere(ctx: Stranger) -> Elsewhere:
    """Where an account is made, with a signed statement of who sends one there."""
    return Elsewhere(address=handing_over.to_sign_up(ctx))


@router.post("/products/{slug}/elsewhere")
def subscribe_elsewhere(ctx: Asking, slug: str, chosen: ChosenPlan) -> Elsewhere:
    """Where a plan is chosen, with a signed statement of who asks for what."""
    return Elsewhere(address=handing_over.to_subscribe(ctx, slug, chosen.plan_id, chosen.application_id))


@router.post("/personal")
async def personal_endpoint(request: Request, portal: Here, whose: WhoseIn) -> list[PersonalApplication]:
    """Somebody's applications with the beginnings of their keys, for the examples of the provider's documentation,
    which signs what it asks (Standard Webhooks). The same for an address that is not known as for one that has none."""
    ctx, body = context_of(request), await request.body()
    await run_in_threadpool(personal.must_be_signed, ctx, portal, request.headers, body)
    return await run_in_threadpool(personal.applications_of, ctx, portal, whose.email)
