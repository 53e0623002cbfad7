"""A token issuer: signs tokens with whatever claims it is asked for, and rotates its keys."""

from __future__ import annotations

import time
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import PlainTextResponse
from joserfc import jwt
from joserfc.jwk import ECKey, RSAKey
from pydantic import BaseModel, Field


class TokenIn(BaseModel):
    """A token to sign: its claims over the usual ones, the algorithm, and for how long it is good."""

    claims: dict[str, Any] = {}
    algorithm: str = Field(default="ES256", pattern="ES256|RS256")
    seconds: int = 300


def router() -> APIRouter:
    """The issuer at /issuer, with keys of its own that last as long as it runs."""
    made = APIRouter(prefix="/issuer")
    keys = _new_keys(1)

    @made.get("/jwks.json")
    async def key_set() -> Any:
        return {"keys": [key.as_dict(private=False) for key in keys.values()]}

    @made.get("/tokens")
    async def sign_for_a_person(request: Request) -> PlainTextResponse:
        """A token with the claims that the query names, to be copied."""
        signed = await sign(request, TokenIn(claims=dict(request.query_params)))
        return PlainTextResponse(signed["token"])

    @made.post("/tokens")
    async def sign(request: Request, wanted: TokenIn) -> Any:
        now = int(time.time())
        usual = {"iss": f"{str(request.base_url).rstrip('/')}/issuer", "iat": now, "exp": now + wanted.seconds}
        key = keys[wanted.algorithm]
        header = {"alg": wanted.algorithm, "kid": key.kid}
        return {"token": jwt.encode(header, {**usual, **wanted.claims}, key, algorithms=[wanted.algorithm])}

    @made.post("/rotate")
    async def rotate() -> Any:
        keys.update(_new_keys(int(str(keys["ES256"].kid).rpartition("-")[2]) + 1))
        return await key_set()

    return made


def _new_keys(number: int) -> dict[str, Any]:
    return {
        "ES256": ECKey.generate_key("P-256", {"kid": f"ec-{number}", "use": "sig"}),
        "RS256": RSAKey.generate_key(2048, {"kid": f"rsa-{number}", "use": "sig"}),
    }
