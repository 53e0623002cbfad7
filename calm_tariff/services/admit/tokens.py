"""OAuth 2 client credentials: short-lived signed tokens, the keys that sign them, and their revocation."""

from __future__ import annotations

import json
import logging
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import ECKey
from slugify import slugify
from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotSignedIn
from calm_tariff.core.lifecycles import CALLING, VALID_KEY
from calm_tariff.core.periods import instant_of
from calm_tariff.services.admit import credentials
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import Actor, Context
from calm_tariff.services.base.sealing import Sealed, seal, unseal
from calm_tariff.services.base.secrets import hash_token
from calm_tariff.services.house import secret_places
from calm_tariff.store.admit.applications import ApiKey, ApiKeyPlace
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.admit.tokens import RevokedToken, SigningKey
from calm_tariff.store.compose.apis import Operation
from calm_tariff.store.compose.products import Plan, Product, ProductOperation

log = logging.getLogger("calm_tariff.sign_in")
ALGORITHM = "ES256"
AUDIENCE = "calm-tariff-gateway"
LIFE = timedelta(minutes=15)
UNGROUPED = "ungrouped"


@dataclass(frozen=True, slots=True)
class Issued:
    """A token as the token endpoint answers it (RFC 6749, 5.1)."""

    access_token: str
    expires_in: int
    scope: str


def scope_name(group: str) -> str:
    """A group of operations as a scope: letters, digits and dashes; operations in no group are `ungrouped`."""
    return slugify(group) or UNGROUPED


def scopes_of(groups: Iterable[str]) -> frozenset[str]:
    """The scopes of an operation: any of them opens it."""
    return frozenset(scope_name(group) for group in groups) or frozenset({UNGROUPED})


def issue(ctx: Context, client_id: str, secret: str, wanted: str, address: str = "") -> Issued:
    """A token for an application that shows its id and secret, from an address. `wanted` scopes, separated by spaces,
    must be among those of its plans; none asked for means all. Raises `NotSignedIn`, `NotAllowed`, `Invalid`,
    or `Conflict` where the installation has no secret to seal signing keys with."""
    with ctx.transaction() as session:
        key = _secret(session, ctx, client_id, secret)
        caller = ctx.acting(Actor(f"client {client_id}"))
        secret_places.note(session, caller, ApiKeyPlace, credentials.subject(key), address)
        known = _scopes_sold(session, key.application_id)
        if not known:
            raise NotAllowed("no plan of this application takes tokens of the token endpoint", "client_id")
        asked = frozenset(wanted.split()) or known
        if asked - known:
            raise Invalid(f"{', '.join(sorted(asked - known))} is not part of a plan of this application", "scope")
        scope = " ".join(sorted(asked))
        now = instant_of(ctx.now) // 1_000_000
        claims = {
            "iss": ctx.web_address,
            "aud": AUDIENCE,
            "sub": client_id,
            "client_id": client_id,
            "jti": ctx.token()[:40],
            "iat": now,
            "nbf": now,
            "exp": now + int(LIFE.total_seconds()),
            "scope": scope,
            "key": key.id,
            "env": key.environment,
        }
        kid, signing = _newest(session, ctx)
        token = jwt.encode({"alg": ALGORITHM, "kid": kid, "typ": "at+jwt"}, claims, signing)
        return Issued(token, int(LIFE.total_seconds()), scope)


def statement(session: Session, ctx: Context, claims: dict[str, Any], life: timedelta) -> str:
    """Something that we state for a while, signed as our tokens are (JWT): whoever is told can see by our key set that
    it is ours. Raises `Conflict` where the installation has no secret to seal signing keys with."""
    now = instant_of(ctx.now) // 1_000_000
    kid, signing = _newest(session, ctx)
    ends = now + int(life.total_seconds())
    said = {"iss": ctx.web_address, "iat": now, "exp": ends, "jti": ctx.token()[:40], **claims}
    return jwt.encode({"alg": ALGORITHM, "kid": kid, "typ": "statement+jwt"}, said, signing)


def turned_away(ctx: Context, client_id: str, address: str) -> None:
    """Say that a client id was shown with a wrong secret, to the record and the log."""
    with ctx.transaction() as session:
        subject, why = ("client", 0, client_id), f"from {address}" if address else ""
        auditing.note(session, ctx, "was turned away at the token endpoint", subject, why=why)
    log.warning("%s from %s was turned away at the token endpoint", client_id[:40], address or "an unknown address")


def revoke(ctx: Context, client_id: str, secret: str, token: str) -> None:
    """Make one's own token invalid at once (RFC 7009). A token that is none of ours is no error."""
    with ctx.transaction() as session:
        _secret(session, ctx, client_id, secret)
        for public in public_keys(session):
            try:
                claims = jwt.decode(token, ECKey.import_key(json.loads(public)), algorithms=[ALGORITHM]).claims
            except (JoseError, ValueError):
                continue
            if claims.get("client_id") != client_id:
                raise NotAllowed("this token was given to another application", "token")
            if session.get(RevokedToken, claims["jti"]) is None:
                end = datetime.fromtimestamp(claims["exp"], ctx.now.tzinfo)
                session.add(RevokedToken(jti=claims["jti"], expires_at=end, revoked_at=ctx.now))
                auditing.note(session, ctx, "revoked a token", ("key", claims["key"], client_id))
                session.execute(delete(RevokedToken).where(RevokedToken.expires_at <= ctx.now))
                stamps.touch(session, ctx)
            return


def rotate(ctx: Context) -> str:
    """Make a new signing key; tokens signed by earlier ones stay good until they expire. Its id."""
    ctx.actor.must_be("operations")
    with ctx.transaction() as session:
        kid, _ = _make(session, ctx)
        auditing.note(session, ctx, "made a signing key", ("signing key", 0, kid))
        return kid


def public_keys(session: Session) -> Iterator[str]:
    """The public halves of all signing keys, each a JWK as JSON, newest first."""
    yield from session.scalars(select(SigningKey.public).order_by(SigningKey.made_at.desc()))


def key_set(ctx: Context) -> dict[str, Any]:
    """The JWK set that verifies our tokens (RFC 7517)."""
    with ctx.reading() as session:
        return {"keys": [json.loads(key) for key in public_keys(session)]}


def revoked(session: Session, now: datetime) -> frozenset[str]:
    """The ids of tokens revoked before their end."""
    return frozenset(session.scalars(select(RevokedToken.jti).where(RevokedToken.expires_at > now)))


def _secret(session: Session, ctx: Context, client_id: str, secret: str) -> ApiKey:
    query = select(ApiKey).where(ApiKey.key_hash == hash_token(secret), ApiKey.kind == "secret")
    key = session.scalar(query)
    if key is None or key.application.client_id != client_id or key.state not in VALID_KEY:
        raise NotSignedIn("the client id or its secret is not right", "client_id")
    if (key.starts_at and key.starts_at > ctx.now) or (key.expires_at and key.expires_at <= ctx.now):
        raise NotSignedIn("this secret is not good at this time", "client_secret")
    return key


def _scopes_sold(session: Session, application_id: int) -> frozenset[str]:
    products = (
        select(Product)
        .join(Plan, Plan.product_id == Product.id)
        .join(Subscription, Subscription.plan_id == Plan.id)
        .where(Subscription.application_id == application_id, Subscription.state.in_(CALLING))
    )
    ids = [p.id for p in session.scalars(products) if "client" in p.credential_kinds]
    sold = (
        select(Operation.groups)
        .join(ProductOperation, ProductOperation.c.operation_id == Operation.id)
        .where(ProductOperation.c.product_id.in_(ids))
    )
    return frozenset(scope for (groups,) in session.execute(sold) for scope in scopes_of(groups))


def _newest(session: Session, ctx: Context) -> tuple[str, ECKey]:
    """The id and key that sign. One that was sealed with another secret only verifies; then a new one is made."""
    found = session.scalar(select(SigningKey).order_by(SigningKey.made_at.desc()).limit(1))
    if found:
        with suppress(Sealed):
            return found.kid, ECKey.import_key(json.loads(unseal(_secret_of(ctx), found.sealed)))
    return _make(session, ctx)


def _make(session: Session, ctx: Context) -> tuple[str, ECKey]:
    key, kid = ECKey.generate_key("P-256", private=True), ctx.token()[:20]
    public = {**key.as_dict(private=False), "kid": kid, "alg": ALGORITHM, "use": "sig"}
    sealed = seal(_secret_of(ctx), json.dumps(key.as_dict(private=True)))
    session.add(SigningKey(kid=kid, public=json.dumps(public, sort_keys=True), sealed=sealed, made_at=ctx.now))
    session.flush()
    stamps.touch(session, ctx)
    return kid, key


def _secret_of(ctx: Context) -> str:
    if not ctx.signing_secret:
        raise Conflict("this installation gives no tokens: it has no CALM_SIGNING_SECRET")
    return ctx.signing_secret
