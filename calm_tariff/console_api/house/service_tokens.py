"""Service tokens: made, listed, revoked."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.services.house import service_tokens
from calm_tariff.services.house.service_tokens import DAYS, ServiceTokenView

router = APIRouter(tags=["service tokens"], route_class=Again)


class NewToken(BaseModel):
    """A service token to make: it does what one's own role may do."""

    label: str
    days: int = DAYS


class MadeToken(BaseModel):
    """A service token, shown this once."""

    token: str


@router.get("/service-tokens")
def everything(ctx: Asking) -> list[ServiceTokenView]:
    """One's own tokens, newest first; a product manager sees everybody's."""
    return service_tokens.everything(ctx)


@router.post("/service-tokens", status_code=201)
def make(ctx: Asking, wanted: NewToken) -> MadeToken:
    """A token for scripts with one's own role; a script cannot make one."""
    return MadeToken(token=service_tokens.make(ctx, wanted.label, wanted.days))


@router.delete("/service-tokens/{token_id}")
def revoke(ctx: Asking, token_id: int) -> ServiceTokenView:
    """Revoke a token at once: one's own, or any as product manager."""
    return service_tokens.revoke(ctx, token_id)
