"""Changing a password, and setting another one where it was forgotten. Either ends every session of whose it is."""

from __future__ import annotations

import logging
from datetime import timedelta

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Invalid, NotFound, NotSignedIn
from calm_tariff.services import auditing, mailing, people, throttling
from calm_tariff.services.context import Context, provider_of
from calm_tariff.services.people import Kind
from calm_tariff.services.secrets import hash_password, hash_token, password_matches
from calm_tariff.store.people import Member, PasswordReset, Person, SignedIn

log = logging.getLogger("calm_tariff.sign_in")
WAITS = timedelta(minutes=30)
_PAGES = {"person": "/reset", "member": "/portal/reset"}


def change(ctx: Context, current: str, new: str, address: str = "") -> str:
    """Change one's own password; returns the token of the one session that is left, a new one.
    Raises `NotSignedIn`, `Invalid` or `TooMany`."""
    with ctx.transaction() as session:
        whose = _oneself(session, ctx)
        kind: Kind = "person" if isinstance(whose, Person) else "member"
        stored = whose.password_hash
    throttling.attempt(ctx, f"{kind} {whose.email}", address)
    if not password_matches(stored, current):
        log.warning("the password of %s was not changed: the present one was wrong", whose.email)
        raise Invalid("is not your present password", "current")
    hashed = hash_password(new)
    throttling.forgive(ctx, f"{kind} {whose.email}", address)
    with ctx.transaction() as session:
        return _set(session, ctx, _oneself(session, ctx), hashed, "changed the password")


def forgotten(ctx: Context, kind: Kind, email: str, address: str = "") -> None:
    """Write to an address how to set another password, where it has an account of that kind; what is answered does not
    tell. Raises `TooMany`."""
    email = email.strip().lower()[: people.LONGEST]
    throttling.letter(ctx, email, address)
    token = ctx.token()
    with ctx.transaction() as session:
        found = _by_email(session, kind, email)
        auditing.note(
            session, ctx, "asked for another password", (kind, found.id if found else 0, email),
            why=f"from {address}" if address else "",
        )  # fmt: skip
        if found is None:
            return
        office = provider_of(session).name
        _forget_letters(session, found)
        made = PasswordReset(token_hash=hash_token(token), expires_at=ctx.now + WAITS)
        made.person_id, made.member_id = (found.id, None) if kind == "person" else (None, found.id)
        session.add(made)
        body = (
            f"Somebody asked to set another password for your account at {office}. To do so, open\n\n"
            f"{ctx.web_address}{_PAGES[kind]}#{token}\n\n"
            "within half an hour. If it was not you who asked, there is nothing to do; the password stays as it is.\n"
        )
        mailing.write(session, ctx, email, f"Another password at {office}", body, confidential=True)


def reset(ctx: Context, kind: Kind, token: str, new: str, address: str = "") -> str:
    """Set another password for whoever has the letter, and sign them in; returns the session's token. The letter is
    good once. Raises `NotFound` where it is not, `Invalid` or `TooMany`."""
    place = hash_token(token)
    throttling.attempt(ctx, f"letter {place}", address)
    hashed = hash_password(new)
    with ctx.transaction() as session:
        letter = session.get(PasswordReset, place, with_for_update=True)
        identifier = letter and (letter.person_id if kind == "person" else letter.member_id)
        if letter is None or identifier is None or letter.expires_at <= ctx.now:
            raise NotFound("this letter was used, is too old, or a newer one was asked for; ask again", "token")
        whose = session.get_one(Person, identifier) if kind == "person" else session.get_one(Member, identifier)
        return _set(session, ctx, whose, hashed, "set another password by letter")


def forget(ctx: Context) -> None:
    """Throw away letters that are too old."""
    with ctx.transaction() as session:
        session.execute(delete(PasswordReset).where(PasswordReset.expires_at <= ctx.now))


def _set(session: Session, ctx: Context, whose: Person | Member, hashed: str, did: str) -> str:
    whose.password_hash = hashed
    _forget_letters(session, whose)
    mine = SignedIn.person_id if isinstance(whose, Person) else SignedIn.member_id
    session.execute(delete(SignedIn).where(mine == whose.id))
    if isinstance(whose, Person):
        who, kind, ids = people.of_person(whose), "person", {"person_id": whose.id}
    else:
        who, kind, ids = people.of_member(whose, whose.consumer.name), "member", {"member_id": whose.id}
    auditing.note(session, ctx.acting(who), did, (kind, whose.id, whose.email))
    log.info("%s %s; all sessions ended", whose.email, did)
    return people.begin(session, ctx, **ids)


def _forget_letters(session: Session, whose: Person | Member) -> None:
    mine = PasswordReset.person_id if isinstance(whose, Person) else PasswordReset.member_id
    session.execute(delete(PasswordReset).where(mine == whose.id))


def _oneself(session: Session, ctx: Context) -> Person | Member:
    if ctx.actor.person_id is not None:
        return session.get_one(Person, ctx.actor.person_id)
    if ctx.actor.member_id is not None:
        return session.get_one(Member, ctx.actor.member_id)
    raise NotSignedIn("sign in first")


def _by_email(session: Session, kind: Kind, email: str) -> Person | Member | None:
    if kind == "person":
        return session.scalar(select(Person).where(Person.email == email))
    return session.scalar(select(Member).where(Member.email == email))
