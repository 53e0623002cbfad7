"""Service tokens: made, listed, revoked."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core.scopes import SCOPES
from calm_tariff.edge.again import Again
from calm_tariff.services.base.context import ROLES
from calm_tariff.services.house import service_tokens
from calm_tariff.services.house.service_tokens import DAYS, ServiceTokenTyped, ServiceTokenView

router = APIRouter(tags=["service tokens"], route_class=Again)


class NewToken(BaseModel):
    """A service token to make: with which of one's own roles (all, where none is named), and narrowed to which scopes,
    if any."""

    label: str
    roles: list[str] = []
    scopes: list[str] = []
    days: int = DAYS


class MadeToken(BaseModel):
    """A service token, shown this once."""

    token: str


@router.get("/service-tokens")
def everything(ctx: Asking) -> list[ServiceTokenView]:
    """One's own tokens, newest first; an owner of the house sees everybody's."""
    return service_tokens.everything(ctx)


@router.get("/scopes")
def scopes(ctx: Asking) -> list[str]:
    """What a service token can be narrowed to."""
    ctx.actor.must_be(*ROLES)
    return list(SCOPES)


@router.post("/service-tokens", status_code=201)
def make(ctx: Asking, wanted: NewToken) -> MadeToken:
    """A token for scripts with roles of one's own; a script cannot make one."""
    typed = ServiceTokenTyped(
        label=wanted.label, roles=tuple(wanted.roles), scopes=tuple(wanted.scopes), days=wanted.days
    )
    return MadeToken(token=service_tokens.make(ctx, typed))


@router.delete("/service-tokens/{token_id}")
def revoke(ctx: Asking, token_id: int) -> ServiceTokenView:
    """Revoke a token at once: one's own, or any as an owner of the house."""
    return service_tokens.revoke(ctx, token_id)
