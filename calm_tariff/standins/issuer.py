"""A token issuer: signs tokens with whatever claims it is asked for, and rotates its keys; and a provider of identities
(OpenID Connect) for made-up people."""

from __future__ import annotations

import base64
import hashlib
import secrets
import time
from collections.abc import Mapping
from dataclasses import dataclass
from html import escape
from typing import Annotated, Any
from urllib.parse import urlencode

from fastapi import APIRouter, Form, Request
from fastapi.responses import HTMLResponse, JSONResponse, PlainTextResponse
from joserfc import jwt
from joserfc.jwk import ECKey, RSAKey
from pydantic import BaseModel, Field

_Field = Annotated[str, Form()]


class TokenIn(BaseModel):
    """A token to sign: its claims over the usual ones, the algorithm, and for how long it is good."""

    claims: dict[str, Any] = {}
    algorithm: str = Field(default="ES256", pattern="ES256|RS256")
    seconds: int = 300


@dataclass(frozen=True)
class Known:
    """Somebody whom the provider knows, whether it has verified their mail address, and the teams they are of."""

    subject: str
    name: str
    email: str
    verified: bool = True
    teams: tuple[str, ...] = ()


PEOPLE = (
    Known("p-4711", "Bento Farol", "bento@larkmouth-pilots.example"),
    Known("p-4712", "Ondina Faro", "ondina@tugs.example"),
    Known("p-4713", "Ruivo Pargo", "ruivo@elsewhere.example"),
    Known("p-4714", "Noa Maresia", "noa@tugs.example", verified=False),
    Known("p-4715", "Vera Doca", "vera@larkmouth.example", teams=("ledger",)),
)
# The client that portals of a demo are, and its house can be.
CLIENT, CLIENT_SECRET = "larkmouth-portal", "larkmouth-demo-client"


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

    # By code: whom it was given for, and the question that it answers.
    given: dict[str, tuple[Known, Mapping[str, str]]] = {}

    @made.get("/.well-known/openid-configuration")
    async def described(request: Request) -> Any:
        here = f"{str(request.base_url).rstrip('/')}/issuer"
        return {
            "issuer": here,
            "authorization_endpoint": f"{here}/authorize",
            "token_endpoint": f"{here}/token",
            "jwks_uri": f"{here}/jwks.json",
            "response_types_supported": ["code"],
            "subject_types_supported": ["public"],
            "id_token_signing_alg_values_supported": ["ES256"],
        }

    @made.get("/authorize")
    async def who_is_it(request: Request) -> HTMLResponse:
        """Whom to be, as links back with a code."""
        asked, lines = dict(request.query_params), []
        for one in PEOPLE:
            code = secrets.token_urlsafe(16)
            given[code] = one, asked
            back = f"{asked.get('redirect_uri', '')}?{urlencode({'code': code, 'state': asked.get('state', '')})}"
            lines.append(f'<li><a href="{escape(back)}">{escape(one.name)}, {escape(one.email)}</a></li>')
        text = f"<h1>Who are you?</h1><p>Made-up people of a demo.</p><ul>{''.join(lines)}</ul>"
        return HTMLResponse(f"<!doctype html><html lang=en><title>Coast identity</title>{text}</html>")

    @made.post("/token")
    async def answer(request: Request, code: _Field, redirect_uri: _Field, code_verifier: _Field) -> Any:
        """An ID token for a code, once."""
        login = base64.b64encode(f"{CLIENT}:{CLIENT_SECRET}".encode()).decode()
        if request.headers.get("authorization") != f"Basic {login}":
            return JSONResponse({"error": "invalid_client"}, 401)
        one, asked = given.pop(code, (None, {}))
        proof = base64.urlsafe_b64encode(hashlib.sha256(code_verifier.encode()).digest()).decode().rstrip("=")
        if one is None or asked.get("redirect_uri") != redirect_uri or asked.get("code_challenge") != proof:
            return JSONResponse({"error": "invalid_grant"}, 400)
        claims: dict[str, Any] = {"sub": one.subject, "aud": CLIENT, "nonce": asked.get("nonce"), "name": one.name}
        claims |= {"email": one.email, "email_verified": one.verified, "teams": list(one.teams)}
        signed = await sign(request, TokenIn(claims=claims))
        return {"access_token": secrets.token_urlsafe(16), "token_type": "Bearer", "id_token": signed["token"]}

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
