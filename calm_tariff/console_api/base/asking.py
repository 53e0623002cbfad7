"""Who asks the console."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Depends, Request

from calm_tariff.core import scopes
from calm_tariff.edge.asking import SAFE, asking
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.people import people

COOKIE = "calm_console"
_known = asking(COOKIE, people)
# Who one is may be asked with any token.
UNSCOPED = frozenset({"me"})


def scope_of(endpoint: Any, method: str) -> str:
    """The scope that a service token needs for a route: of the place whose folder it is in. Empty where it needs
    none."""
    places = set(scopes.PLACES) & set(endpoint.__module__.split("."))
    return scopes.needed(places.pop(), method in SAFE) if places and endpoint.__name__ not in UNSCOPED else ""


def within_scope(request: Request, ctx: Annotated[Context, Depends(_known)]) -> Context:
    """Who asks, where their token's scopes take in what is asked. Raises `NotAllowed`."""
    scope = scope_of(request.scope["endpoint"], request.method)
    if scope:
        ctx.actor.must_cover(scope)
    return ctx


Asking = Annotated[Context, Depends(within_scope)]
