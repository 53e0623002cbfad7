"""Changing a password, and setting another one where it was forgotten. Either ends every session of whose it is."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import delete
from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.notices import Notice, Recipient, notify
from calm_tariff.services.base.secrets import hash_password, hash_token
from calm_tariff.services.house.signing_in import mail_addresses, proof, second_factor, sessions, throttling
from calm_tariff.services.house.signing_in.proof import Changed
from calm_tariff.services.house.signing_in.realms import Realm
from calm_tariff.store.base.locking import locked
from calm_tariff.store.house.people import Account, PasswordReset

WAITS = timedelta(minutes=30)


def change(ctx: Context, realm: Realm, current: str, new: str, address: str = "") -> str:
    """Change one's own password; returns the token of the one session that is left, a new one.
    Raises `NotSignedIn`, `Invalid` or `TooMany`."""
    mine = proof.by_password(ctx, realm, current, address, "current")
    hashed = hash_password(new)
    with ctx.transaction() as session:
        return _set(session, ctx, realm, realm.by_id(session, mine), hashed, "password")


def forgotten(ctx: Context, realm: Realm, email: str, address: str = "") -> None:
    """Write to an address how to set another password, where it has an account of that kind; what is answered does not
    tell. Raises `TooMany`."""
    email = sessions.address_typed(email)
    throttling.letter(ctx, email, address)
    with ctx.transaction() as session:
        found = realm.found(session, email)
        auditing.note(
            session,
            ctx,
            "asked for another password",
            (realm.kind, found.id if found else 0, email),
            why=f"from {address}" if address else "",
        )
        if found is not None:
            write_to(session, ctx, realm, found)


def write_to(session: Session, ctx: Context, realm: Realm, account: Account) -> None:
    """Write to somebody how to set another password; an earlier letter is good no more. The caller answers for how
    often that is done."""
    token = ctx.token()
    forget_letters(session, realm, account.id)
    made = PasswordReset(token_hash=hash_token(token), expires_at=ctx.now + WAITS)
    setattr(made, realm.column, account.id)
    session.add(made)
    notice = Notice(kind="password forgotten", page=f"{realm.reset_page}#{token}", confidential=True)
    notify(session, ctx, [Recipient(email=account.email, at=realm.at)], notice)


def reset(ctx: Context, realm: Realm, token: str, new: str, address: str = "", *, code: str = "") -> str:
    """Set another password for whoever has the letter and shows the second factor, where they have one, and sign them
    in; returns the session's token. The letter is good once. Raises `NotFound` where it is not, `NotSignedIn` with
    `code` as its place, `Invalid` or `TooMany`."""
    place = hash_token(token)
    throttling.attempt(ctx, f"letter {place}", address, where="")
    hashed = hash_password(new)
    with ctx.transaction() as session:
        letter = locked(session, PasswordReset, place)
        whose = getattr(letter, realm.column) if letter else None
        if letter is None or whose is None or letter.expires_at <= ctx.now:
            raise NotFound("this letter was used, is too old, or a newer one was asked for; ask again", "token")
        account = realm.by_id(session, whose)
        if not realm.takes(session, account):
            raise NotFound("this letter is not good here; open the link in it", "token")
        if code:  # with one letter after another, codes could be tried through
            throttling.attempt(ctx, f"{realm.kind} code of {account.id}", address, where="code")
        second_factor.must_be_shown(session, ctx, realm, account, code)
        return _set(session, ctx, realm, account, hashed, "password by letter")


def forget(ctx: Context) -> None:
    """Throw away letters that are too old."""
    with ctx.transaction() as session:
        session.execute(delete(PasswordReset).where(PasswordReset.expires_at <= ctx.now))


def _set(session: Session, ctx: Context, realm: Realm, whose: Account, hashed: str, what: Changed) -> str:
    whose.password_hash = hashed
    forget_letters(session, realm, whose.id)
    mail_addresses.forget_letters(session, realm, whose.id)
    sessions.end_all(session, realm, whose.id)
    proof.changed(session, ctx, realm, whose, what)
    return sessions.begin(session, ctx, realm, whose.id)


def forget_letters(session: Session, realm: Realm, account_id: int) -> None:
    """Make the letters of an account good no more."""
    session.execute(delete(PasswordReset).where(getattr(PasswordReset, realm.column) == account_id))
