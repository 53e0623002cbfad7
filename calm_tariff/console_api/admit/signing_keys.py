"""The keys our own tokens are signed with."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.services.admit import tokens

router = APIRouter(tags=["credentials"], route_class=Again)


class SigningKeyMade(BaseModel):
    """The id of a new signing key."""

    kid: str


@router.post("/signing-keys", status_code=201)
def rotate_signing_key(ctx: Asking) -> SigningKeyMade:
    """Sign tokens with a new key from now on."""
    return SigningKeyMade(kid=tokens.rotate(ctx))
