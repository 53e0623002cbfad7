"""Passkeys: key pairs that a telephone, computer or stick makes and keeps for its owner, who unlocks them there, and
of which we know the public half (WebAuthn Level 3, W3C). Whoever has one signs in by it alone, without password and
code.

A browser uses a passkey only on pages of the host name that it was made for, which cannot be a number. What it is given
to sign is good once, for a few minutes.
"""

from __future__ import annotations

import json
import logging
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from ipaddress import ip_address
from typing import Any

import webauthn
from cbor2 import CBORError
from sqlalchemy import ColumnElement, delete, func, select
from sqlalchemy.orm import Session
from webauthn.helpers import base64url_to_bytes, bytes_to_base64url, options_to_json, parse_client_data_json
from webauthn.helpers.exceptions import WebAuthnException
from webauthn.helpers.structs import (
    AuthenticatorSelectionCriteria,
    PublicKeyCredentialDescriptor,
    ResidentKeyRequirement,
    UserVerificationRequirement,
)

from calm_tariff.core.errors import Conflict, Invalid, NotFound, NotSignedIn
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.services.base.secrets import hash_token
from calm_tariff.services.house.signing_in import proof, second_factor, sessions, throttling
from calm_tariff.services.house.signing_in.realms import Realm
from calm_tariff.store.base.locking import locked
from calm_tariff.store.house.people import Account, Passkey, PasskeyChallenge

log = logging.getLogger("calm_tariff.sign_in")
GOOD = timedelta(minutes=5)
MOST = 20
LONGEST_LABEL = 80
# What the package says of what is none, and what it falls over.
_BROKEN = (
    WebAuthnException,
    CBORError,
    ValueError,
    TypeError,
    AttributeError,
    LookupError,
    ArithmeticError,
    RecursionError,
)
_OF_NOBODY = PasskeyChallenge.person_id.is_(None) & PasskeyChallenge.member_id.is_(None)
# What a browser makes of a passkey, as `PublicKeyCredential.toJSON` writes it.
Made = Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Host:
    """Where a browser is: the host's name, which a passkey is made for, and the origin of its pages."""

    name: str
    origin: str


@dataclass(frozen=True, slots=True, kw_only=True)
class PasskeyView:
    """A passkey of one's own: what one calls it, the host name it is for, when it was made and last used."""

    id: int
    label: str
    host: str
    made_at: datetime
    used_at: datetime | None


def own(ctx: Context, realm: Realm) -> list[PasskeyView]:
    """One's own passkeys, the oldest first. Raises `NotSignedIn`."""
    with ctx.reading() as session:
        return [_view(one) for one in session.scalars(select(Passkey).where(_mine(realm, realm.me(ctx))))]


def begin(
    ctx: Context, realm: Realm, host: Host, password: str, code: str = "", *, address: str = ""
) -> dict[str, Any]:
    """What a browser makes a passkey by (`PublicKeyCredentialCreationOptionsJSON`). Raises `NotSignedIn`, `TooMany`,
    `Invalid` for a wrong password, a code of the second factor that is wrong or not there, or a host without a name, or
    `Conflict` where one has very many."""
    mine = proof.by_password(ctx, realm, password, address)
    _must_have_a_name(host)
    throttling.attempt(ctx, f"{realm.kind} code of {mine}", address, where="code")
    with ctx.transaction() as session:
        account = realm.by_id(session, mine)
        try:
            second_factor.must_be_shown(session, ctx, realm, account, code)
        except NotSignedIn as error:
            raise Invalid(error.what, error.where) from None
        if (session.scalar(select(func.count()).where(_mine(realm, mine))) or 0) >= MOST:
            raise Conflict(f"you have {MOST} passkeys; remove one first", "passkey")
        there = session.scalars(select(Passkey.credential).where(_mine(realm, mine), Passkey.host == host.name))
        options = webauthn.generate_registration_options(
            rp_id=host.name,
            rp_name=provider_of(session).name,
            user_id=f"{realm.kind} {mine}".encode(),
            user_name=account.email,
            user_display_name=account.name,
            authenticator_selection=AuthenticatorSelectionCriteria(
                resident_key=ResidentKeyRequirement.REQUIRED, user_verification=UserVerificationRequirement.REQUIRED
            ),
            exclude_credentials=[PublicKeyCredentialDescriptor(base64url_to_bytes(one)) for one in there],
        )
        _give(session, ctx, options.challenge, {realm.column: mine})
    throttling.forgive(ctx, f"{realm.kind} code of {mine}", address)
    return _said(options_to_json(options))


def keep(ctx: Context, realm: Realm, host: Host, made: Made, label: str) -> PasskeyView:
    """Keep a passkey that a browser made of `begin`'s answer. Raises `NotSignedIn`, or `Invalid` where it is none, was
    made of something else, or too late."""
    mine = realm.me(ctx)
    if not 0 < len(label.strip()) <= LONGEST_LABEL:
        raise Invalid(f"call it something, in at most {LONGEST_LABEL} characters", "label")
    with ctx.transaction() as session:
        given = _taken(session, ctx, made, getattr(PasskeyChallenge, realm.column) == mine)
    try:
        found = webauthn.verify_registration_response(
            credential=dict(made),
            expected_challenge=given,
            expected_rp_id=host.name,
            expected_origin=host.origin,
            require_user_verification=True,
        )
    except _BROKEN as error:
        raise _wrong(error) from None
    with ctx.transaction() as session:
        credential = bytes_to_base64url(found.credential_id)
        if session.scalar(select(Passkey.id).where(Passkey.credential_hash == hash_token(credential))) is not None:
            raise Invalid("is known already", "passkey")
        kept = Passkey(
            credential_hash=hash_token(credential),
            credential=credential,
            public_key=bytes_to_base64url(found.credential_public_key),
            host=host.name,
            label=label.strip(),
            uses=found.sign_count,
            made_at=ctx.now,
        )
        setattr(kept, realm.column, mine)
        session.add(kept)
        proof.changed(session, ctx, realm, realm.by_id(session, mine), "passkey made")
        session.flush()
        return _view(kept)


def end(ctx: Context, realm: Realm, passkey_id: int, password: str, address: str = "") -> None:
    """Remove a passkey of one's own. Raises `NotSignedIn`, `TooMany`, `NotFound` for another's just as for none, or
    `Invalid` for a wrong password."""
    with ctx.transaction() as session:
        _own(session, ctx, realm, passkey_id)
    mine = proof.by_password(ctx, realm, password, address)
    with ctx.transaction() as session:
        session.delete(_own(session, ctx, realm, passkey_id))
        proof.changed(session, ctx, realm, realm.by_id(session, mine), "passkey removed")


def ask(ctx: Context, host: Host, address: str = "") -> dict[str, Any]:
    """What a passkey that the browser finds is given to sign (`PublicKeyCredentialRequestOptionsJSON`); the same for
    everybody. Raises `Invalid` for a host without a name, or `TooMany`."""
    _must_have_a_name(host)
    throttling.begun(ctx, "passkey", address)
    options = webauthn.generate_authentication_options(
        rp_id=host.name, user_verification=UserVerificationRequirement.REQUIRED
    )
    with ctx.transaction() as session:
        _give(session, ctx, options.challenge, {})
    return _said(options_to_json(options))


def sign_in(ctx: Context, realm: Realm, host: Host, made: Made, address: str = "") -> str:
    """A session token for whose passkey has signed what `ask` gave. Raises `NotSignedIn`, the same whatever is wrong,
    or `TooMany`."""
    named = made.get("id")
    digest = hash_token(named) if isinstance(named, str) and named.isascii() else ""
    throttling.attempt(ctx, f"{realm.kind} passkey {digest}", address, where="")
    try:
        with ctx.transaction() as session:
            given = _taken(session, ctx, made, _OF_NOBODY)
        with ctx.transaction() as session:
            identifier = session.scalar(select(Passkey.id).where(Passkey.credential_hash == digest))
            kept = locked(session, Passkey, identifier) if identifier is not None else None
            account = _whose(session, realm, kept)
            if kept is None or account is None or kept.host != host.name:
                raise _turned_away("no passkey of anybody's here")
            try:
                found = webauthn.verify_authentication_response(
                    credential=dict(made),
                    expected_challenge=given,
                    expected_rp_id=host.name,
                    expected_origin=host.origin,
                    credential_public_key=base64url_to_bytes(kept.public_key),
                    credential_current_sign_count=kept.uses,
                    require_user_verification=True,
                )
            except _BROKEN as error:
                raise _turned_away(str(error)) from None
            kept.uses, kept.used_at = found.new_sign_count, ctx.now
            who = ctx.acting(realm.acting(account))
            why = f"by a passkey {sessions.said_from(address)}".rstrip()
            auditing.note(session, who, "signed in", (realm.kind, account.id, account.email), why=why)
            token = sessions.begin(session, ctx, realm, account.id)
    except (Invalid, NotSignedIn) as error:
        log.info("a passkey was not taken: %s", error.what)
        sessions.turned_away(ctx, realm, "somebody with a passkey", address)
        raise NotSignedIn("this passkey opens no account here") from None
    throttling.forgive(ctx, f"{realm.kind} passkey {digest}", address)
    return token


def forget(session: Session, realm: Realm, account_id: int) -> None:
    """Forget the passkeys of somebody who is no longer there."""
    for table in (Passkey, PasskeyChallenge):
        session.execute(delete(table).where(getattr(table, realm.column) == account_id))


def _must_have_a_name(host: Host) -> None:
    """A browser makes passkeys for names alone (WebAuthn Level 3, 5.1.3)."""
    try:
        ip_address(host.name.strip("[]"))
    except ValueError:
        return
    raise Invalid(f"passkeys are for pages at a name, and these are at {host.name}")


def _give(session: Session, ctx: Context, challenge: bytes, whose: Mapping[str, int]) -> None:
    session.execute(delete(PasskeyChallenge).where(PasskeyChallenge.expires_at <= ctx.now))
    digest = hash_token(bytes_to_base64url(challenge))
    session.add(PasskeyChallenge(challenge_hash=digest, expires_at=ctx.now + GOOD, **whose))


def _taken(session: Session, ctx: Context, made: Made, whose: ColumnElement[bool]) -> bytes:
    """What was given to be signed, by the browser's own word; from here on it is good no more. Raises `Invalid` where
    nothing of the kind was given."""
    try:
        said = parse_client_data_json(base64url_to_bytes(made["response"]["clientDataJSON"])).challenge
    except _BROKEN as error:
        raise _wrong(error) from None
    digest = hash_token(bytes_to_base64url(said))
    good = (PasskeyChallenge.challenge_hash == digest) & (PasskeyChallenge.expires_at > ctx.now) & whose
    found = session.scalar(select(PasskeyChallenge.challenge_hash).where(good).with_for_update())
    if found is None:
        raise Invalid("this took too long, or was answered already; begin again")
    session.execute(delete(PasskeyChallenge).where(PasskeyChallenge.challenge_hash == digest))
    return said


def _whose(session: Session, realm: Realm, kept: Passkey | None) -> Account | None:
    """The account that a passkey opens, where the realm takes it."""
    identifier = getattr(kept, realm.column) if kept is not None else None
    if identifier is None:
        return None
    account = realm.by_id(session, identifier)
    return account if realm.takes(session, account) else None


def _own(session: Session, ctx: Context, realm: Realm, passkey_id: int) -> Passkey:
    mine, found = realm.me(ctx), locked(session, Passkey, passkey_id)
    if found is None or getattr(found, realm.column) != mine:
        raise NotFound("you have no such passkey", str(passkey_id))
    return found


def _mine(realm: Realm, mine: int) -> ColumnElement[bool]:
    column: ColumnElement[bool] = getattr(Passkey, realm.column) == mine
    return column


def _said(options: str) -> dict[str, Any]:
    said: dict[str, Any] = json.loads(options)
    return said


def _wrong(error: Exception) -> Invalid:
    log.info("what a browser made is no passkey for here: %s", error)
    return Invalid("is not what a browser makes of what it was given here", "passkey")


def _turned_away(why: str) -> NotSignedIn:
    return NotSignedIn(why)


def _view(one: Passkey) -> PasskeyView:
    return PasskeyView(id=one.id, label=one.label, host=one.host, made_at=one.made_at, used_at=one.used_at)
