"""Asking a provider of identities (OpenID Connect): where it is asked, and for a code whom it knows."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote

import httpx
import orjson

from calm_tariff.core.errors import Away, Invalid
from calm_tariff.core.reach import Reach
from calm_tariff.edge import reaching
from calm_tariff.formats import openid
from calm_tariff.formats.openid import Endpoints, Identity

PATIENCE = httpx.Timeout(10)
# No description, key set or token needs more bytes.
LONGEST = 1_000_000


def described(reach: Reach, issuer: str) -> Endpoints:
    """Where a provider is asked, by its own description. Raises `Away` where it cannot be asked, or `Invalid`."""
    with reaching.client(reach, timeout=PATIENCE) as client:
        return openid.endpoints(_asked(client, "GET", issuer + openid.DESCRIBED_AT), issuer)


def identity(
    reach: Reach, issuer: str, client_id: str, secret: str, *, code: str, back: str, nonce: str, verifier: str, now: int
) -> Identity:
    """Whom a provider knows by a code (OpenID Connect Core 1.0, section 3.1.3), at an instant in seconds. Raises `Away`
    where it cannot be asked, or `Invalid`."""
    with reaching.client(reach, timeout=PATIENCE) as client:
        to = openid.endpoints(_asked(client, "GET", issuer + openid.DESCRIBED_AT), issuer)
        form = {"grant_type": "authorization_code", "code": code, "redirect_uri": back, "code_verifier": verifier}
        login = base64.b64encode(f"{quote(client_id, safe='')}:{quote(secret, safe='')}".encode()).decode()
        given = _asked(client, "POST", to.token, form, {"Authorization": f"Basic {login}"})
        token = given.get("id_token") if isinstance(given, dict) else None
        if not isinstance(token, str):
            raise Invalid("the provider's answer is not taken: it holds no ID token", "id_token")
        keys = _asked(client, "GET", to.keys)
    return openid.identity(token, keys, issuer=issuer, client_id=client_id, nonce=nonce, now=now)


def _asked(
    client: httpx.Client,
    method: str,
    url: str,
    form: Mapping[str, str] | None = None,
    headers: Mapping[str, str] | None = None,
) -> Any:
    try:
        with client.stream(method, url, data=form, headers={**(headers or {}), "Accept": "application/json"}) as answer:
            body = b""
            for part in answer.iter_bytes():
                body += part
                if len(body) > LONGEST:
                    raise Away("the provider answers more than is taken", "provider")
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        raise Away("the provider cannot be reached at the moment", "provider") from error
    if answer.status_code in (400, 401, 403) and form is not None:
        raise Invalid("the provider does not take this sign-in; begin again", "code")
    if answer.status_code != 200:
        raise Away(f"the provider answered {answer.status_code}", "provider")
    try:
        return orjson.loads(body)
    except ValueError:
        raise Away("the provider answered what is no JSON", "provider") from None
