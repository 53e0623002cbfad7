"""The outside issuers whose tokens are credentials."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core.meters import Environment
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import Edition
from calm_tariff.services.compose import issuers
from calm_tariff.services.compose.issuers import Algorithm, IssuerTyped, IssuerView

router = APIRouter(tags=["credentials"], route_class=Again)


class IssuerIn(BaseModel):
    """An issuer; see `services.issuers.IssuerTyped`."""

    name: str = Field(max_length=200)
    issuer: str = Field(max_length=200)
    jwks_url: str = Field(max_length=200)
    audience: str = Field(max_length=200)
    algorithms: list[Algorithm] = ["RS256", "ES256"]
    claim: str = Field(default="sub", max_length=40)
    environment: Environment = "live"
    trusted: bool = True


@router.get("/issuers")
def list_issuers(ctx: Asking) -> list[IssuerView]:
    """All outside issuers."""
    return issuers.everything(ctx)


@router.post("/issuers", status_code=201)
def add_issuer(ctx: Asking, typed: IssuerIn) -> IssuerView:
    """Trust another issuer."""
    return issuers.add(ctx, IssuerTyped(**typed.model_dump()))


@router.put("/issuers/{issuer_id}")
def save_issuer(ctx: Asking, issuer_id: int, edition: Edition, typed: IssuerIn) -> IssuerView:
    """Change an issuer, or trust it no more."""
    return issuers.save(ctx, issuer_id, edition, IssuerTyped(**typed.model_dump()))
