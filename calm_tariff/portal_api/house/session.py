"""Who is signed in, and how the portal looks."""

from __future__ import annotations

from fastapi import APIRouter, Request
from pydantic import BaseModel

from calm_tariff.edge.again import Again
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.admit import storefront
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.storefront import Look
from calm_tariff.services.house import sessions
from calm_tariff.services.house.sessions import SignIn
from calm_tariff.settings import Settings

router = APIRouter(route_class=Again)


class Member(BaseModel):
    """Who is signed in; empty where nobody is."""

    name: str
    consumer: str
    look: Look
    demo: list[SignIn]


@router.get("/me")
def me(request: Request, ctx: Asking) -> Member:
    """Who is signed in, and how the portal looks."""
    settings: Settings = request.app.state.settings
    demo = sessions.offered(ctx, MEMBERS) if settings.demo else []
    look = storefront.look(ctx, settings.gateway_address)
    name = ctx.actor.name if ctx.actor.consumer_id else ""
    return Member(name=name, consumer=ctx.actor.consumer, look=look, demo=demo)
