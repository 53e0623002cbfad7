"""The ticket desk outside, which decides on requests: what it says is believed only with its signature.

Both sides share a secret and sign with it (JWT, RFC 7519, with HS256). A question carries a token of ours, with an id
made for it; the answer is a token of the desk's that names that id. So neither somebody in between nor an answer of
before can grant anything.
"""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from urllib.parse import quote

import httpx
import orjson
from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import OctKey

_SECONDS = 60
_LONGEST_NOTE = 2_000
_HOW = "HS256"
_US, _DESK = "calm tariff", "ticket desk"
_STATES = ("open", "granted", "declined")


class Unproven(Exception):
    """An answer that is not provably the desk's, or does not answer what was asked."""


@dataclass(frozen=True, slots=True)
class Ticket:
    """A ticket as the desk says it is. States: open, granted, declined."""

    number: str
    reference: str
    state: str
    note: str


class TicketDesk:
    """A desk that is asked over HTTP. `client` is based at its address; the secret has 32 bytes or more (RFC 7518,
    3.2). Its methods raise `httpx.HTTPError` where it does not answer, and `Unproven`."""

    def __init__(self, client: httpx.Client, secret: str, clock: Callable[[], datetime]) -> None:
        self._client, self._key, self._clock = client, OctKey.import_key(secret), clock

    def open(self, reference: str, title: str, text: str) -> Ticket:
        """Open a ticket. The desk knows it by our reference: asked again, it opens no second one."""
        return self._ask("POST", "/tickets", {"reference": reference, "title": title, "text": text})

    def look(self, number: str) -> Ticket | None:
        """How a ticket stands; None where the desk says, without proof, that it has none."""
        try:
            return self._ask("GET", f"/tickets/{quote(number, safe='')}")
        except httpx.HTTPStatusError as error:
            if error.response.status_code == 404:
                return None
            raise

    def _ask(self, method: str, path: str, body: dict[str, str] | None = None) -> Ticket:
        asked, content = secrets.token_urlsafe(16), orjson.dumps(body) if body else b""
        now = int(self._clock().timestamp())
        ours = {
            "iss": _US,
            "aud": _DESK,
            "jti": asked,
            "iat": now,
            "exp": now + _SECONDS,
            "asks": f"{method} {path}",
            "sha256": hashlib.sha256(content).hexdigest(),
        }
        fields = {
            "Authorization": f"Bearer {jwt.encode({'alg': _HOW}, ours, self._key, algorithms=[_HOW])}",
            "Content-Type": "application/json",
            "Accept": "application/jwt",
        }
        answer = self._client.request(method, path, content=content, headers=fields).raise_for_status()
        return _read(self._claims(answer.text, asked))

    def _claims(self, text: str, asked: str) -> dict[str, Any]:
        try:
            claims = jwt.decode(text.strip(), self._key, algorithms=[_HOW]).claims
        except (JoseError, ValueError, TypeError) as error:
            raise Unproven(f"its signature does not hold: {error}") from None
        if (claims.get("iss"), claims.get("aud"), claims.get("jti")) != (_DESK, _US, asked):
            raise Unproven("it answers something else than what was asked")
        return claims


def _read(claims: dict[str, Any]) -> Ticket:
    said = claims.get("ticket")
    given = said if isinstance(said, dict) else {}
    number, reference, state = (str(given.get(name, "")) for name in ("number", "reference", "state"))
    if not number or len(number) > 40 or state not in _STATES:
        raise Unproven("it names no ticket in a state that tickets have")
    note = str(given.get("note", "")).encode("utf-8", "replace").decode()
    return Ticket(number, reference, state, note[:_LONGEST_NOTE])
