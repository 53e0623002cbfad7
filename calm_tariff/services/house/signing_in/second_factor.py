"""A second factor at the sign-in: codes of six figures that change every half minute (TOTP, RFC 6238), made by a
program that was given a secret; and recovery codes, for when that is lost."""

from __future__ import annotations

import hmac
import logging
import re
import secrets
from dataclasses import dataclass
from datetime import datetime

import pyotp
import segno
from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, Invalid, NotSignedIn
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.services.base.sealing import Sealed, seal, unseal
from calm_tariff.services.base.secrets import hash_token
from calm_tariff.services.house.signing_in import proof, throttling
from calm_tariff.services.house.signing_in.realms import Realm
from calm_tariff.store.base.locking import locked
from calm_tariff.store.house.people import Account, SecondFactor

log = logging.getLogger("calm_tariff.sign_in")
# Clocks may be a step apart (RFC 6238, 5.2).
STEPS_APART = 1
RECOVERY_CODES = 10
# Five bits each: fifty bits a code, which attempts are throttled against.
_CODE_LETTERS = "abcdefghijkmnpqrstuvwxyz23456789"
_CODE_LENGTH = 10


@dataclass(frozen=True, slots=True, kw_only=True)
class FactorView:
    """Whether one has a second factor, since when, and how many recovery codes are left."""

    on: bool
    since: datetime | None
    recovery_left: int


@dataclass(frozen=True, slots=True, kw_only=True)
class FactorBegun:
    """What a program that makes codes is given: the secret (base 32), and the address that holds it (otpauth), as a QR
    code too (an SVG picture in a data address, ISO/IEC 18004). Shown this once."""

    secret: str
    address: str
    picture: str


@dataclass(frozen=True, slots=True)
class RecoveryCodes:
    """Codes that are good once each. Shown this once, and kept as hashes."""

    codes: list[str]


def state(ctx: Context, realm: Realm) -> FactorView:
    """One's own second factor. Raises `NotSignedIn`."""
    with ctx.reading() as session:
        factor = _of(session, realm, realm.me(ctx))
        on = factor is not None and factor.confirmed_at is not None
        return FactorView(
            on=on,
            since=factor.confirmed_at if factor else None,
            recovery_left=len(factor.recovery) if factor and on else 0,
        )


def begin(ctx: Context, realm: Realm, password: str, address: str = "") -> FactorBegun:
    """Make a secret, which counts once a code of it was shown. One begun before is good no more. Raises `NotSignedIn`,
    `TooMany`, `Invalid` for a wrong password, `Conflict` where there is a second factor already."""
    proof.by_password(ctx, realm, password, address)
    if not ctx.sealing_secret:
        raise Conflict("this installation has no secret to seal with (CALM_VALUE_SECRET)", "second factor")
    secret = pyotp.random_base32()
    with ctx.transaction() as session:
        mine = realm.me(ctx)
        factor = _of(session, realm, mine)
        if factor is not None and factor.confirmed_at is not None:
            raise Conflict("you have a second factor; turn it off first", "second factor")
        if factor is not None:
            session.delete(factor)
            session.flush()
        made = SecondFactor(sealed=seal(ctx.sealing_secret, secret), begun_at=ctx.now, recovery=[])
        setattr(made, realm.column, mine)
        session.add(made)
        named = realm.by_id(session, mine).email
        link = pyotp.TOTP(secret).provisioning_uri(name=named, issuer_name=provider_of(session).name)
    picture = segno.make(link, error="m").svg_data_uri(scale=4, border=2, dark="#1E2B2A", light="#FFFFFF")
    return FactorBegun(secret=secret, address=link, picture=picture)


def confirm(ctx: Context, realm: Realm, code: str, address: str = "") -> RecoveryCodes:
    """Turn a second factor on, by a code of the secret that was begun with. Raises `NotSignedIn`, `TooMany`, `Invalid`
    for a wrong code, `Conflict` where none was begun."""
    mine = realm.me(ctx)
    throttling.attempt(ctx, f"{realm.kind} code of {mine}", address, where="code")
    with ctx.transaction() as session:
        account = realm.by_id(session, mine)
        factor = _of(session, realm, mine, lock=True)
        if factor is None or factor.confirmed_at is not None:
            raise Conflict("begin with the password first" if factor is None else "it is on already", "second factor")
        if not _shown(ctx, factor, code):
            raise Invalid("is not a code of this secret now; see that both clocks are right", "code")
        factor.confirmed_at = ctx.now
        codes = _new_codes(factor)
        proof.changed(session, ctx, realm, account, "factor on")
    throttling.forgive(ctx, f"{realm.kind} code of {mine}", address)
    return codes


def renew(ctx: Context, realm: Realm, code: str, password: str, address: str = "") -> RecoveryCodes:
    """Other recovery codes in place of those there are. Raises `NotSignedIn`, `TooMany`, or `Invalid` for a wrong
    password or code."""
    mine = proof.by_password(ctx, realm, password, address)
    throttling.attempt(ctx, f"{realm.kind} code of {mine}", address, where="code")
    with ctx.transaction() as session:
        factor = _on(session, realm, mine)
        _must_show(ctx, factor, code)
        codes = _new_codes(factor)
        proof.changed(session, ctx, realm, realm.by_id(session, mine), "recovery codes")
        return codes


def end(ctx: Context, realm: Realm, code: str, password: str, address: str = "") -> None:
    """Turn one's second factor off. Raises `NotSignedIn`, `TooMany`, `Invalid` for a wrong password or code, or
    `Conflict` where everybody must have one."""
    mine = proof.by_password(ctx, realm, password, address)
    throttling.attempt(ctx, f"{realm.kind} code of {mine}", address, where="code")
    with ctx.transaction() as session:
        factor = _on(session, realm, mine)
        if realm.needs_factor(session):
            raise Conflict("everybody shows a second factor here: it cannot be turned off", "second factor")
        _must_show(ctx, factor, code)
        session.delete(factor)
        proof.changed(session, ctx, realm, realm.by_id(session, mine), "factor off")


def must_be_shown(session: Session, ctx: Context, realm: Realm, account: Account, code: str) -> None:
    """See that whoever signs in shows the second factor, where they have one. Raises `NotSignedIn` with `code` as its
    place, also where none was typed yet."""
    factor = _of(session, realm, account.id, lock=True)
    if factor is None or factor.confirmed_at is None:
        return
    if not code.strip():
        raise NotSignedIn("type the code that your program for codes shows, or a recovery code", "code")
    if _shown(ctx, factor, code):
        return
    if not _recovered(factor, code):
        log.warning("a sign-in as %s failed at the second factor", account.email)
        raise NotSignedIn("the code is not right, or was used; wait for the next one", "code")
    proof.changed(session, ctx, realm, account, "recovery code")


def is_on(session: Session, realm: Realm, account_id: int) -> bool:
    """Whether somebody has a second factor that counts."""
    factor = _of(session, realm, account_id)
    return factor is not None and factor.confirmed_at is not None


def forget(session: Session, realm: Realm, account_id: int) -> None:
    """Forget the second factor of somebody who is no longer there."""
    session.execute(delete(SecondFactor).where(getattr(SecondFactor, realm.column) == account_id))


def _of(session: Session, realm: Realm, account_id: int, lock: bool = False) -> SecondFactor | None:
    query = select(SecondFactor).where(getattr(SecondFactor, realm.column) == account_id)
    found = session.scalar(query)
    return locked(session, SecondFactor, found.id) if found is not None and lock else found


def _on(session: Session, realm: Realm, account_id: int) -> SecondFactor:
    factor = _of(session, realm, account_id, lock=True)
    if factor is None or factor.confirmed_at is None:
        raise Conflict("you have no second factor", "second factor")
    return factor


def _must_show(ctx: Context, factor: SecondFactor, code: str) -> None:
    if not _shown(ctx, factor, code) and not _recovered(factor, code):
        raise Invalid("is not right, or was used; wait for the next one", "code")


def _shown(ctx: Context, factor: SecondFactor, code: str) -> bool:
    """Whether a code is one of now, and of a step that none was taken of yet; then it is taken."""
    typed = re.sub(r"\s", "", code)
    if not re.fullmatch(r"[0-9]{6}", typed, re.ASCII):
        return False
    try:
        codes = pyotp.TOTP(unseal(ctx.sealing_secret, factor.sealed))
    except Sealed:
        log.error("a second factor cannot be opened: it was sealed with another secret")
        return False
    this = codes.timecode(ctx.now)
    for step in range(max(this - STEPS_APART, factor.last_step + 1), this + STEPS_APART + 1):
        if hmac.compare_digest(codes.generate_otp(step), typed):
            factor.last_step = step
            return True
    return False


def _recovered(factor: SecondFactor, code: str) -> bool:
    """Whether a code is one of the recovery codes; then it is used up."""
    used = hash_token(re.sub(r"[\s-]", "", code).lower())
    if used not in factor.recovery:
        return False
    factor.recovery = [kept for kept in factor.recovery if kept != used]
    return True


def _new_codes(factor: SecondFactor) -> RecoveryCodes:
    made = ["".join(secrets.choice(_CODE_LETTERS) for _ in range(_CODE_LENGTH)) for _ in range(RECOVERY_CODES)]
    factor.recovery = [hash_token(code) for code in made]
    half = _CODE_LENGTH // 2
    return RecoveryCodes([f"{code[:half]}-{code[half:]}" for code in made])
