"""Who is signed in to the console."""

from __future__ import annotations

from fastapi import APIRouter, Request
from pydantic import BaseModel

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core.house import HouseRole
from calm_tariff.edge.again import Again
from calm_tariff.services.base.context import ROLES, provider_of
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.signing_in import identity_provider, sessions
from calm_tariff.services.house.signing_in.realms import SignIn

router = APIRouter(tags=["session"], route_class=Again)


class Me(BaseModel):
    """Who is signed in, and what all screens need. `name` is empty where nobody is; `stopped` says what they must do
    before they may do anything else; `signs_in_through` is the outside provider that people may come by, or empty."""

    name: str
    roles: list[HouseRole]
    stopped: str
    signs_in_through: str
    provider: str
    time_zone: str
    currency: str
    demo: list[SignIn]


@router.get("/me")
def me(request: Request, ctx: Asking) -> Me:
    """Who is signed in; in a demo, whom one can be."""
    demo = sessions.offered(ctx, PEOPLE) if request.app.state.settings.demo else []
    with ctx.transaction() as session:
        p = provider_of(session)
        return Me(
            name=ctx.actor.name if ctx.actor.roles or ctx.actor.stopped else "",
            roles=[role for role in ROLES if role in ctx.actor.roles],
            stopped=ctx.actor.stopped,
            signs_in_through=identity_provider.name_of(session),
            provider=p.name,
            time_zone=p.time_zone,
            currency=p.currency,
            demo=demo,
        )
