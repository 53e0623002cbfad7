"""Verifying signed tokens: ours (RFC 9068) and those of outside issuers (RFC 7519, keys by RFC 7517)."""

from __future__ import annotations

import asyncio
import base64
import binascii
import json
import logging
import re
import time
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from aiohttp import ClientError, ClientSession, ClientTimeout
from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import ECKey, Key, KeySet

from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.verdict.credentials import Fault, Identity, fault_of
from calm_tariff.services.admit.tokens import ALGORITHM, AUDIENCE
from calm_tariff.services.serve.gateway_feed import Issuer

log = logging.getLogger("calm_tariff.tokens")
# What is kept of tokens that were verified, in characters of the tokens.
KEPT = 4_000_000
# An issuer's keys are asked for again when they are older than it says (Cache-Control), and than this in any case: a
# key that it has taken back is good no longer. Where it does not answer, the last ones are good for a while.
FRESH_SECONDS = 60.0
STALE_SECONDS = 300.0
LEAST_SECONDS = 5.0
LONGEST = 1_000_000
CLOCKS_APART = 5
# The greatest whole number that every JSON reader reads alike (RFC 7493, 2.2).
GREATEST = 2**53
_MAX_AGE = re.compile(r"(?:^|[\s,])(?:max-age=(\d{1,9})|(no-store|no-cache))(?=$|[\s,])", re.IGNORECASE)


@dataclass(slots=True)
class _Keys:
    """An issuer's keys as last fetched from `url`, good without asking again for `fresh` seconds; instants of the
    monotonic clock."""

    url: str = ""
    keys: KeySet | None = None
    fresh: float = 0.0
    fetched: float = -1e9
    tried: float = -1e9
    lock: asyncio.Lock = field(default_factory=asyncio.Lock)

    def is_fresh(self, now: float) -> bool:
        """Whether they need not be asked for again; not more often than every few seconds in any case."""
        return now - self.fetched <= max(self.fresh, LEAST_SECONDS)

    def has(self, kid: Any) -> bool:
        """Whether there is a key of that id, or any where none is named."""
        return self.keys is not None and (kid is None or any(key.kid == kid for key in self.keys.keys))


@dataclass(slots=True)
class Tokens:
    """Verifies tokens, keeping what was verified until it expires, and issuers' keys for a minute."""

    address: str
    session: ClientSession | None = None
    clock: Callable[[], float] = time.monotonic
    _verified: OrderedDict[str, dict[str, Any]] = field(default_factory=OrderedDict)
    _size: int = 0
    _keys: dict[str, _Keys] = field(default_factory=dict)
    _own: tuple[tuple[str, ...], dict[str, Key]] = ((), {})
    _number: int = -1

    async def identify(self, snapshot: Snapshot, text: str, now_us: int) -> Identity | Fault:
        """Whose token it is, or what is wrong with it."""
        if snapshot.number != self._number:
            # What is trusted, and for which audience, may have changed.
            self._forget()
            self._number = snapshot.number
        header, claims = _part(text, 0), _part(text, 1)
        if header is None or claims is None:
            return _bad("token-malformed", "Malformed token", "The token is not three parts of base64url with JSON.")
        issuer = claims.get("iss")
        if issuer == self.address:
            verified = self._verified.get(text) or self._ours(snapshot, text, header)
        elif isinstance(issuer, str) and issuer in snapshot.issuers:
            verified = await self._outside(snapshot.issuers[issuer], text, header)
        else:
            return _bad("token-issuer", "Unknown issuer", "The token's issuer (iss) is not trusted here.")
        if isinstance(verified, Fault):
            return verified
        fault = _times(verified, now_us // 1_000_000)
        if fault:
            if self._verified.pop(text, None) is not None:
                self._size -= len(text)
            return fault
        self._keep(text, verified)
        if issuer == self.address:
            return _of_ours(snapshot, verified, now_us)
        return _of_outside(snapshot, snapshot.issuers[issuer], verified)

    def _keep(self, text: str, claims: dict[str, Any]) -> None:
        if text not in self._verified:
            self._verified[text] = claims
            self._size += len(text)
        while self._size > KEPT:
            gone, _ = self._verified.popitem(last=False)
            self._size -= len(gone)

    def _forget(self) -> None:
        self._verified.clear()
        self._size = 0

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
        kept = self._keys.get(issuer.issuer)
        if kept is None or kept.url != issuer.jwks_url:
            kept = self._keys[issuer.issuer] = _Keys(issuer.jwks_url)
        kid = header.get("kid")
        if not kept.is_fresh(self.clock()) or not kept.has(kid):
            await self._fetch(issuer, kept, kid)
        if kept.keys is None or self.clock() - kept.fetched > STALE_SECONDS:
            return Fault(
                503,
                "issuer-away",
                "The issuer's keys cannot be read",
                f"{issuer.name} does not give its keys at the moment, so its tokens cannot be verified. Try again.",
            )
        if not kept.has(kid):
            return _bad("token-signature", "Bad signature", f"{issuer.name} has no key with the token's key id (kid).")
        return self._verified.get(text) or _verify(text, kept.keys, list(issuer.algorithms), issuer.audience)

    async def _fetch(self, issuer: Issuer, kept: _Keys, kid: Any) -> None:
        """Ask for the keys, unless that was done while this call waited, or just before."""
        async with kept.lock:
            now = self.clock()
            if now - kept.tried <= LEAST_SECONDS or (kept.is_fresh(now) and kept.has(kid)):
                return
            kept.tried = now
            assert self.session
            wait = ClientTimeout(total=3)
            try:
                async with self.session.get(issuer.jwks_url, timeout=wait, allow_redirects=False) as answer:
                    if answer.status != 200:
                        raise ValueError(f"answered {answer.status}")
                    text = await answer.content.read(LONGEST)
                    fresh = _fresh_seconds(answer.headers.get("Cache-Control", ""))
                found = KeySet.import_key_set(json.loads(text))
            except (ClientError, OSError, TimeoutError, ValueError, KeyError, TypeError, JoseError) as error:
                log.warning("the keys of %s cannot be read: %s %s", issuer.name, error.__class__.__name__, error)
                return
            kept.keys, kept.fresh, kept.fetched = found, fresh, now
            self._forget()


def _fresh_seconds(cache_control: str) -> float:
    """For how long keys are good without asking again, by the field they came with (RFC 9111, 5.2.2)."""
    found = _MAX_AGE.search(cache_control)
    if found is None:
        return FRESH_SECONDS
    return 0.0 if found[2] else min(float(found[1]), FRESH_SECONDS)


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
    if not all(type(x) is int and abs(x) < GREATEST for x in (end, begin, made)):
        detail = "The token must say when it expires (exp), and its times (exp, nbf, iat) must be whole numbers."
        return _bad("token-malformed", "Malformed token", detail)
    assert isinstance(end, int)
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
        kind="client",
        application_id=secret.application_id,
        consumer_id=secret.consumer_id,
        environment=secret.environment,
        key_id=secret.key_id,
        scopes=scopes,
        claims=claims,
        bounds=secret.bounds,
    )


def _of_outside(snapshot: Snapshot, issuer: Issuer, claims: dict[str, Any]) -> Identity | Fault:
    named = claims.get(issuer.claim)
    caller = snapshot.clients.get(named) if isinstance(named, str) else None
    if caller is None:
        return _bad(
            "token-application",
            "Unknown application",
            f"The token's claim {issuer.claim} must be the id of an application registered here.",
        )
    return Identity(
        kind="token",
        application_id=caller.application_id,
        consumer_id=caller.consumer_id,
        environment=issuer.environment,
        key_id=None,
        scopes=None,
        claims=claims,
    )


def _bad(code: str, title: str, detail: str) -> Fault:
    return Fault(401, code, title, detail)
