"""Changing the mail address of one's own account: a letter to the new one shows that it is theirs, and another tells
the old one."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import delete
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Invalid, NotFound
from calm_tariff.formats.addresses import mail_address
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.notices import Notice, Recipient, notify
from calm_tariff.services.base.secrets import hash_token
from calm_tariff.services.house.signing_in import proof, throttling
from calm_tariff.services.house.signing_in.realms import Realm
from calm_tariff.store.base.locking import locked
from calm_tariff.store.house.people import AddressChange

WAITS = timedelta(hours=24)


def own(ctx: Context, realm: Realm) -> str:
    """The address that one's letters go to. Raises `NotSignedIn`."""
    with ctx.reading() as session:
        return realm.by_id(session, realm.me(ctx)).email


def ask(ctx: Context, realm: Realm, email: str, password: str, address: str = "") -> None:
    """Write to the address that one wants instead. What is answered does not tell whether somebody else has it. Raises
    `NotSignedIn`, `TooMany`, or `Invalid`, naming the field."""
    realm.me(ctx)
    email = mail_address(email)
    mine = proof.by_password(ctx, realm, password, address)
    throttling.letter(ctx, email, address)
    token = ctx.token()
    with ctx.transaction() as session:
        if realm.by_id(session, mine).email == email:
            raise Invalid("is your address already", "email")
        forget_letters(session, realm, mine)
        kind = Notice(kind="account there already", page="/sign-in", confidential=True)
        if realm.by_email(session, email) is None:
            made = AddressChange(token_hash=hash_token(token), email=email, expires_at=ctx.now + WAITS)
            setattr(made, realm.column, mine)
            session.add(made)
            kind = Notice(kind="address wanted", page=f"{realm.address_page}#{token}", confidential=True)
        notify(session, ctx, [Recipient(email=email, at=realm.at)], kind)


def confirm(ctx: Context, realm: Realm, token: str, address: str = "") -> str:
    """Change the address of whoever has the letter; returns the new one. The letter is good once, and the old address
    is told. Raises `NotFound` where the letter is not good, `Invalid` where somebody has the address by now, or
    `TooMany`."""
    place = hash_token(token)
    throttling.attempt(ctx, f"letter {place}", address, where="")
    with ctx.transaction() as session:
        letter = locked(session, AddressChange, place)
        whose = getattr(letter, realm.column) if letter else None
        account = realm.by_id(session, whose) if whose is not None else None
        if letter is None or account is None or letter.expires_at <= ctx.now or not realm.takes(session, account):
            raise NotFound("this letter was used, is too old, or a newer one was asked for; ask again", "token")
        if realm.by_email(session, letter.email) is not None:
            raise Invalid("somebody has this address by now", "email")
        before, account.email = account.email, letter.email
        forget_letters(session, realm, account.id)
        session.flush()
        proof.changed(session, ctx, realm, account, "address", to=before)
        return account.email


def forget_letters(session: Session, realm: Realm, account_id: int) -> None:
    """Make the letters of an account good no more."""
    session.execute(delete(AddressChange).where(getattr(AddressChange, realm.column) == account_id))


def forget(ctx: Context) -> None:
    """Throw away letters that are too old."""
    with ctx.transaction() as session:
        session.execute(delete(AddressChange).where(AddressChange.expires_at <= ctx.now))
