"""Verifying signed tokens: ours (RFC 9068) and those of outside issuers (RFC 7519, keys by RFC 7517)."""

from __future__ import annotations

import asyncio
import base64
import binascii
import json
import logging
import time
from collections import OrderedDict
from dataclasses import dataclass, field
from typing import Any

from aiohttp import ClientError, ClientSession, ClientTimeout
from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import ECKey, Key, KeySet

from calm_tariff.gateway.credentials import Fault, Identity, fault_of
from calm_tariff.gateway.snapshot import Snapshot
from calm_tariff.services.gateway_feed import Issuer
from calm_tariff.services.tokens import ALGORITHM, AUDIENCE

log = logging.getLogger("calm_tariff.tokens")
KEPT = 10_000
FRESH_SECONDS = 300
LEAST_SECONDS = 5
CLOCKS_APART = 5


@dataclass(slots=True)
class _Keys:
    """An issuer's keys as last fetched; instants of the monotonic clock."""

    keys: KeySet | None = None
    fetched: float = -1e9
    tried: float = -1e9
    lock: asyncio.Lock = field(default_factory=asyncio.Lock)


@dataclass(slots=True)
class Tokens:
    """Verifies tokens, keeping what was verified until it expires, and issuers' keys for five minutes."""

    address: str
    session: ClientSession | None = None
    _verified: OrderedDict[str, dict[str, Any]] = field(default_factory=OrderedDict)
    _keys: dict[str, _Keys] = field(default_factory=dict)
    _own: tuple[tuple[str, ...], dict[str, Key]] = ((), {})
    _number: int = -1

    async def identify(self, snapshot: Snapshot, text: str, now_us: int) -> Identity | Fault:
        """Whose token it is, or what is wrong with it."""
        if snapshot.number != self._number:
            # What is trusted, and for which audience, may have changed.
            self._verified.clear()
            self._number = snapshot.number
        header, claims = _part(text, 0), _part(text, 1)
        if header is None or claims is None:
            return _bad("token-malformed", "Malformed token", "The token is not three parts of base64url with JSON.")
        issuer = claims.get("iss")
        if issuer == self.address:
            verified = self._verified.get(text) or self._ours(snapshot, text, header)
        elif isinstance(issuer, str) and issuer in snapshot.issuers:
            verified = self._verified.get(text) or await self._outside(snapshot.issuers[issuer], text, header)
        else:
            return _bad("token-issuer", "Unknown issuer", "The token's issuer (iss) is not trusted here.")
        if isinstance(verified, Fault):
            return verified
        fault = _times(verified, now_us // 1_000_000)
        if fault:
            self._verified.pop(text, None)
            return fault
        self._keep(text, verified)
        if issuer == self.address:
            return _of_ours(snapshot, verified, now_us)
        return _of_outside(snapshot, snapshot.issuers[issuer], verified)

    def _keep(self, text: str, claims: dict[str, Any]) -> None:
        self._verified[text] = claims
        if len(self._verified) > KEPT:
            self._verified.popitem(last=False)

    def _ours(self, snapshot: Snapshot, text: str, header: dict[str, Any]) -> dict[str, Any] | Fault:
        if self._own[0] != snapshot.signing_keys:
            keys = [json.loads(key) for key in snapshot.signing_keys]
            self._own = snapshot.signing_keys, {key["kid"]: ECKey.import_key(key) for key in keys}
        key = self._own[1].get(str(header.get("kid")))
        if key is None:
            return _bad("token-signature", "Bad signature", "No key of ours has the token's key id (kid).")
        return _verify(text, key, [ALGORITHM], AUDIENCE)

    async def _outside(self, issuer: Issuer, text: str, header: dict[str, Any]) -> dict[str, Any] | Fault:
        if header.get("alg") not in issuer.algorithms:
            taken = ", ".join(issuer.algorithms)
            return _bad("token-algorithm", "Not this algorithm", f"Tokens of {issuer.name} must be signed by {taken}.")
        kept = self._keys.setdefault(issuer.issuer, _Keys())
        kid = header.get("kid")
        known = kept.keys is not None and (kid is None or any(key.kid == kid for key in kept.keys.keys))
        now = time.monotonic()
        # A key id not seen before may mean that the issuer has rotated; but not more often than every few seconds.
        if now - kept.fetched > FRESH_SECONDS or (not known and now - kept.tried > LEAST_SECONDS):
            await self._fetch(issuer, kept)
        if kept.keys is None:
            return Fault(
                503, "issuer-away", "The issuer's keys cannot be read",
                f"{issuer.name} does not give its keys at the moment, so its tokens cannot be verified. Try again.",
            )  # fmt: skip
        if kid is not None and not any(key.kid == kid for key in kept.keys.keys):
            return _bad("token-signature", "Bad signature", f"{issuer.name} has no key with the token's key id (kid).")
        return _verify(text, kept.keys, list(issuer.algorithms), issuer.audience)

    async def _fetch(self, issuer: Issuer, kept: _Keys) -> None:
        async with kept.lock:
            if time.monotonic() - kept.tried <= 0.5:
                return
            kept.tried = time.monotonic()
            assert self.session
            try:
                async with self.session.get(issuer.jwks_url, timeout=ClientTimeout(total=3)) as answer:
                    found = KeySet.import_key_set(json.loads(await answer.content.read(1_000_000)))
            except (ClientError, OSError, TimeoutError, ValueError, KeyError, JoseError) as error:
                log.warning("the keys of %s cannot be read: %s", issuer.name, error.__class__.__name__)
                return
            kept.keys, kept.fetched = found, kept.tried
            self._verified.clear()


def _part(text: str, place: int) -> dict[str, Any] | None:
    raw = text.split(".")[place]
    try:
        found = json.loads(base64.urlsafe_b64decode(raw + "=" * (-len(raw) % 4)))
    except (binascii.Error, ValueError, RecursionError):
        return None
    return found if isinstance(found, dict) else None


def _verify(text: str, key: Key | KeySet, algorithms: list[str], audience: str) -> dict[str, Any] | Fault:
    try:
        claims = jwt.decode(text, key, algorithms=algorithms).claims
    except (JoseError, ValueError, TypeError):
        return _bad("token-signature", "Bad signature", "The token's signature does not verify.")
    given = claims.get("aud")
    if audience != given and not (isinstance(given, list) and audience in given):
        return _bad("token-audience", "Not for this audience", f"The token's audience (aud) must be {audience}.")
    return claims


def _times(claims: dict[str, Any], now: int) -> Fault | None:
    end, begin, made = claims.get("exp"), claims.get("nbf", 0), claims.get("iat", 0)
    if not all(isinstance(x, int | float) for x in (end, begin, made)) or end is None:
        return _bad("token-malformed", "Malformed token", "The token must say when it expires (exp), as a number.")
    if now >= end:
        return _bad("token-expired", "Expired token", "The token has expired. Ask for a new one.")
    if max(begin, made) > now + CLOCKS_APART:
        return _bad("token-not-yet-valid", "Token not yet valid", "The token is good only later (nbf or iat).")
    return None


def _of_ours(snapshot: Snapshot, claims: dict[str, Any], now_us: int) -> Identity | Fault:
    if claims.get("jti") in snapshot.revoked_tokens:
        return _bad("token-revoked", "Revoked token", "The token was revoked. Ask for a new one.")
    secret = snapshot.secrets.get(int(claims.get("key", 0)))
    if secret is None:
        return _bad("token-revoked", "Revoked token", "The secret this token was given for is gone.")
    fault = fault_of(secret, now_us, "token's secret")
    if fault:
        return fault
    scopes = frozenset(str(claims.get("scope", "")).split())
    return Identity(
        "client", secret.application_id, secret.consumer_id, secret.environment, secret.key_id, scopes, claims
    )


def _of_outside(snapshot: Snapshot, issuer: Issuer, claims: dict[str, Any]) -> Identity | Fault:
    named = claims.get(issuer.claim)
    caller = snapshot.clients.get(named) if isinstance(named, str) else None
    if caller is None:
        return _bad(
            "token-application", "Unknown application",
            f"The token's claim {issuer.claim} must be the id of an application registered here.",
        )  # fmt: skip
    return Identity("token", caller.application_id, caller.consumer_id, issuer.environment, None, None, claims)


def _bad(code: str, title: str, detail: str) -> Fault:
    return Fault(401, code, title, detail)
