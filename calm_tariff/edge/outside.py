"""What both APIs share of signing in through an outside provider of identities (OpenID Connect, code flow with a proof
key)."""

from __future__ import annotations

from fastapi import Request, Response
from pydantic import BaseModel, Field

from calm_tariff.core.errors import NotAllowed
from calm_tariff.edge import openid
from calm_tariff.edge.asking import keep_in_browser, kept_in_browser
from calm_tariff.formats.openid import Identity, authorization
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.signing_in.outside import WAITS, Begun

STATE = "calm_outside"


class SentTo(BaseModel):
    """Where somebody is sent to sign in."""

    address: str


class CameBackIn(BaseModel):
    """What came back with somebody from the provider."""

    state: str = Field(max_length=200)
    code: str = Field(max_length=4000)


class FactorIn(BaseModel):
    """A code of the second factor."""

    state: str = Field(max_length=200)
    code: str = Field(max_length=40)


def send(request: Request, response: Response, ctx: Context, begun: Begun) -> SentTo:
    """Send somebody to the provider, with a state that their browser keeps. Raises `Away` where it cannot be asked."""
    to, client = openid.described(ctx.reach, begun.client.issuer), begun.client
    keep_in_browser(request, response, STATE, begun.state, int(WAITS.total_seconds()))
    return SentTo(
        address=authorization(
            to, client.client_id, client.back, state=begun.state, nonce=begun.nonce, verifier=begun.verifier
        )
    )


def whom(ctx: Context, begun: Begun, code: str) -> Identity:
    """Whom the provider knows by a code. Raises `Away` where it cannot be asked, or `Invalid`."""
    return openid.identity(
        ctx.reach,
        begun.client.issuer,
        begun.client.client_id,
        begun.client.secret,
        code=code,
        back=begun.client.back,
        nonce=begun.nonce,
        verifier=begun.verifier,
        now=ctx.now_us // 1_000_000,
    )


def of_this_browser(request: Request, state: str) -> None:
    """See that whoever comes back is who was sent. Raises `NotAllowed`."""
    if not state or kept_in_browser(request, STATE) != state:
        raise NotAllowed("this sign-in was begun in another browser; begin again")
