"""Who asks the portal, and which portal it is."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated

from fastapi import Depends, Request

from calm_tariff.core import portals
from calm_tariff.core.errors import NotAllowed
from calm_tariff.edge.asking import SAFE, asking, context_of, kept_in_browser
from calm_tariff.services.admit import looking
from calm_tariff.services.admit.members import who_enter
from calm_tariff.services.admit.portals import serving
from calm_tariff.services.admit.portals.serving import PortalAsked
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.signing_in.realms import Realm

COOKIE = "calm_portal"
# What one of the provider's people looks with.
LOOKING = "calm_looking"


def portal_asked(request: Request) -> PortalAsked:
    """The portal whose path the API is asked below. Raises `NotFound`."""
    prefix = request.path_params.get("portal")
    return serving.asked(context_of(request), f"{portals.OTHERS}{prefix}" if prefix else portals.FIRST)


Here = Annotated[PortalAsked, Depends(portal_asked)]


def members_here(portal: Here) -> Realm:
    """Who may sign in at the portal that is asked."""
    return who_enter(portal)


_asks = asking(COOKIE, members_here)


def who_asks(request: Request, portal: Here, ctx: Annotated[Context, Depends(_asks)]) -> Context:
    """The context of whoever asks, through this portal, signed in or not. Who looks as a consumer does only reads: all
    else raises `NotAllowed`."""
    looks = kept_in_browser(request, LOOKING)
    actor = looking.who(context_of(request), portal, looks) if looks else None
    if actor is None:
        return ctx.acting(replace(ctx.actor, portal_id=portal.id))
    if request.method not in SAFE:
        raise NotAllowed(f"you look at this as {actor.consumer} does: nothing can be changed")
    return ctx.acting(actor)


def stranger(request: Request, portal: Here) -> Context:
    """The context of somebody who is about to sign up here."""
    ctx = context_of(request)
    return ctx.acting(replace(ctx.actor, portal_id=portal.id))


Asking = Annotated[Context, Depends(who_asks)]
Stranger = Annotated[Context, Depends(stranger)]
