"""Who is signed in, and how the portal looks."""

from __future__ import annotations

from fastapi import APIRouter, Request
from pydantic import BaseModel

from calm_tariff.core.membership import MAY, Act
from calm_tariff.edge.again import Again
from calm_tariff.portal_api.base.asking import Asking, Here
from calm_tariff.services.admit import payment_pauses, suspending
from calm_tariff.services.admit.members import who_enter
from calm_tariff.services.admit.portals import look
from calm_tariff.services.admit.portals.look import Look
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.services.house.signing_in.realms import SignIn
from calm_tariff.settings import Settings

router = APIRouter(route_class=Again)


class Member(BaseModel):
    """Who is signed in; empty where nobody is. With `let_in`, their organisation's own pages open; `may` says what
    they may do there (core.membership). Of an account that is `closed`, what was is left to be seen; one that is
    `suspended` is told why, and its calls are refused; so they are while an invoice is `unpaid`, of which that is the
    number. `looking` is who of the provider's people looks at it as they
    do, and can change nothing."""

    name: str
    consumer: str
    let_in: bool
    closed: bool
    suspended: str
    unpaid: str
    looking: str
    role: str
    may: list[Act]
    look: Look
    demo: list[SignIn]


@router.get("/me")
def me(request: Request, ctx: Asking, portal: Here) -> Member:
    """Who is signed in, and how the portal looks."""
    settings: Settings = request.app.state.settings
    demo = sessions.offered(ctx, who_enter(portal)) if settings.demo else []
    shown = look.look(ctx, portal.id, settings.gateway_address)
    name = ctx.actor.name if ctx.actor.consumer_id else ""
    return Member(
        name=name,
        consumer=ctx.actor.consumer,
        let_in=ctx.actor.let_in,
        closed=ctx.actor.closed,
        suspended=suspending.told(ctx),
        unpaid=payment_pauses.told(ctx),
        looking=ctx.actor.looking,
        role=ctx.actor.membership,
        may=[act for act in MAY if ctx.actor.may(act)],
        look=shown,
        demo=demo,
    )
