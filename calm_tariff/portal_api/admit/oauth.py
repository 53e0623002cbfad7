"""The OAuth 2 token endpoint for client credentials (RFC 6749, 4.4), revocation (RFC 7009), keys and metadata
(RFC 8414). Applications ask here; the gateway verifies what they were given."""

from __future__ import annotations

import base64
import binascii
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Annotated, Any
from urllib.parse import unquote_plus

from fastapi import FastAPI, Form, Request
from fastapi.responses import JSONResponse

from calm_tariff.core.errors import CalmTariffError, Invalid, NotAllowed, NotSignedIn, TooMany
from calm_tariff.edge.asking import address_of
from calm_tariff.services.admit import tokens
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.signing_in import throttling
from calm_tariff.settings import Settings

NOT_KEPT = {"cache-control": "no-store", "pragma": "no-cache"}
_ERRORS: dict[type[CalmTariffError], tuple[int, str]] = {
    NotSignedIn: (401, "invalid_client"),
    NotAllowed: (400, "unauthorized_client"),
    Invalid: (400, "invalid_scope"),
}


def create_app(ctx: Context, settings: Settings) -> FastAPI:
    """The application, to be mounted at /oauth2."""
    app = FastAPI(title="Calm Tariff tokens", version="1", docs_url=None, redoc_url=None)
    app.state.settings = settings

    @app.exception_handler(CalmTariffError)
    async def tell(request: Request, error: CalmTariffError) -> JSONResponse:
        """Errors in the shape of RFC 6749, 5.2."""
        if isinstance(error, TooMany):
            wait = {**NOT_KEPT, "retry-after": str(error.wait)}
            return JSONResponse({"error": "invalid_client", "error_description": error.what}, 429, headers=wait)
        status, name = _ERRORS.get(type(error), (400, "invalid_request"))
        headers = {**NOT_KEPT, "www-authenticate": 'Basic realm="tokens"'} if status == 401 else NOT_KEPT
        return JSONResponse({"error": name, "error_description": error.what}, status, headers=headers)

    @contextmanager
    def _attempt(request: Request, client_id: str, secret: str) -> Iterator[tuple[str, str, str]]:
        """Who shows which secret from where, where that may be tried now: too many wrong ones have to wait."""
        client, shown = _client(request, client_id, secret)
        came_from = address_of(request)
        throttling.attempt(ctx, f"client {client}", came_from)
        try:
            yield client, shown, came_from
        except NotSignedIn:
            tokens.turned_away(ctx, client, came_from)
            raise
        except CalmTariffError:  # the secret was right all the same
            throttling.forgive(ctx, f"client {client}", came_from)
            raise
        throttling.forgive(ctx, f"client {client}", came_from)

    @app.post("/token")
    def token(
        request: Request,
        grant_type: Annotated[str, Form()] = "",
        scope: Annotated[str, Form()] = "",
        client_id: Annotated[str, Form()] = "",
        client_secret: Annotated[str, Form()] = "",
    ) -> JSONResponse:
        """A short-lived signed token for an application's id and secret."""
        if grant_type != "client_credentials":
            wrong = {"error": "unsupported_grant_type", "error_description": "Only client_credentials is taken here."}
            return JSONResponse(wrong, 400, headers=NOT_KEPT)
        with _attempt(request, client_id, client_secret) as (client, secret, came_from):
            issued = tokens.issue(ctx, client, secret, scope, came_from)
        answer = {
            "access_token": issued.access_token,
            "token_type": "Bearer",
            "expires_in": issued.expires_in,
            "scope": issued.scope,
        }
        return JSONResponse(answer, headers=NOT_KEPT)

    @app.post("/revoke")
    def revoke(
        request: Request,
        token: Annotated[str, Form()],
        client_id: Annotated[str, Form()] = "",
        client_secret: Annotated[str, Form()] = "",
    ) -> JSONResponse:
        """Make a token invalid at once; one that is none is no error."""
        with _attempt(request, client_id, client_secret) as (client, secret, _):
            tokens.revoke(ctx, client, secret, token)
        return JSONResponse({}, headers=NOT_KEPT)

    @app.get("/jwks.json")
    def key_set() -> dict[str, Any]:
        """The keys that verify our tokens."""
        return tokens.key_set(ctx)

    return app


def metadata(address: str) -> dict[str, Any]:
    """What an OAuth client can learn of the endpoint by itself (RFC 8414)."""
    return {
        "issuer": address,
        "token_endpoint": f"{address}/oauth2/token",
        "revocation_endpoint": f"{address}/oauth2/revoke",
        "jwks_uri": f"{address}/oauth2/jwks.json",
        "grant_types_supported": ["client_credentials"],
        "response_types_supported": [],
        "token_endpoint_auth_methods_supported": ["client_secret_basic", "client_secret_post"],
    }


def _client(request: Request, client_id: str, secret: str) -> tuple[str, str]:
    """Id and secret, from Basic or the form. Raises `NotSignedIn`."""
    authorization = request.headers.get("authorization", "")
    if authorization[:6].lower() == "basic ":
        try:
            given, _, word = base64.b64decode(authorization[6:], validate=True).decode().partition(":")
        except (binascii.Error, UnicodeDecodeError):
            raise NotSignedIn("Basic takes base64 of id:secret", "authorization") from None
        return unquote_plus(given), unquote_plus(word)
    if not client_id:
        raise NotSignedIn("say who asks: the client id and its secret, as Basic or in the form", "client_id")
    return client_id, secret
