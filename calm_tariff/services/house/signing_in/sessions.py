"""Signing in and out, and who is behind a session: the same for everybody who has a password here."""

from __future__ import annotations

import logging
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from sqlalchemy import ColumnElement, and_, delete, or_, select, update
from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound, NotSignedIn
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import NOBODY, Actor, Context
from calm_tariff.services.base.secrets import hash_token, password_matches
from calm_tariff.services.house.signing_in import second_factor, throttling
from calm_tariff.services.house.signing_in.realms import Realm, SignIn
from calm_tariff.store.house.people import SignedIn

log = logging.getLogger("calm_tariff.sign_in")
SESSION = timedelta(hours=12)
# A session that nothing was asked with for so long has ended. When it was last used is kept to the minute.
IDLE = timedelta(hours=1)
NOTICED = timedelta(minutes=1)
LONGEST = 254
SET_UP_FIRST = "everybody shows a second factor here: turn one on first, under Your sign-in"
# So much of the hash of its token names a session to whose it is.
SHOWN = 24


@dataclass(frozen=True, slots=True, kw_only=True)
class SessionView:
    """A session of one's own: when it began and was last used (to the minute), from where, in which browser by the
    browser's own word, and whether it is the one that asks."""

    id: str
    began_at: datetime
    seen_at: datetime
    address: str
    browser: str
    this: bool


def sign_in(ctx: Context, realm: Realm, email: str, password: str, address: str = "", *, code: str = "") -> str:
    """A session token for who knows the password and, where they have a second factor, shows a code of it. Raises
    `NotSignedIn`, with `code` as its place where the password was right; or `TooMany`."""
    email = address_typed(email)
    throttling.attempt(ctx, f"{realm.kind} {email}", address)
    with ctx.transaction() as session:
        account = realm.found(session, email)
        stored = account.password_hash if account else None
    if not password_matches(stored, password) or account is None:
        # Said to the record, the log and who tried; never whether the account is there.
        turned_away(ctx, realm, email, address)
        raise NotSignedIn("the e-mail address or the password is not right", "password")
    try:
        with ctx.transaction() as session:
            second_factor.must_be_shown(session, ctx, realm, realm.by_id(session, account.id), code)
    except NotSignedIn:
        if code.strip():
            turned_away(ctx, realm, email, address)
        raise
    throttling.forgive(ctx, f"{realm.kind} {email}", address)
    with ctx.transaction() as session:
        who = ctx.acting(realm.acting(realm.by_id(session, account.id)))
        auditing.note(session, who, "signed in", (realm.kind, account.id, email), why=said_from(address))
        return begin(session, ctx, realm, account.id)


def turned_away(ctx: Context, realm: Realm, email: str, address: str) -> None:
    """Put on the record and in the log that a sign-in failed."""
    with ctx.transaction() as session:
        auditing.note(session, ctx, "was turned away at the sign-in", (realm.kind, 0, email), why=said_from(address))
    log.warning("a sign-in as %s from %s failed", email, address or "an unknown address")


def demo_sign_in(ctx: Context, realm: Realm, email: str) -> str:
    """A session without password, for the buttons of a demo. The caller checks that this is one."""
    with ctx.transaction() as session:
        found = realm.found(session, email)
        if found is None:
            raise NotSignedIn("there is no such demo sign-in", "email")
        return begin(session, ctx, realm, found.id)


def offered(ctx: Context, realm: Realm) -> list[SignIn]:
    """Whom a demo offers to sign in as."""
    with ctx.reading() as session:
        return realm.offered(session)


def sign_out(ctx: Context, token: str) -> None:
    """End a session. Ending one that has ended is no error."""
    with ctx.transaction() as session:
        found = session.get(SignedIn, hash_token(token))
        if found is not None:
            kind, identifier = ("person", found.person_id) if found.person_id else ("member", found.member_id)
            auditing.note(session, ctx, "signed out", (kind, identifier or 0, ctx.actor.name))
            session.delete(found)


def who(ctx: Context, realm: Realm, token: str | None) -> Actor:
    """Who is behind a browser session's token; nobody where there is none, it has ended, or it is of another kind."""
    if not token:
        return NOBODY
    with ctx.transaction() as session:
        found = session.get(SignedIn, hash_token(token))
        if found is None or found.expires_at <= ctx.now or found.seen_at <= ctx.now - IDLE:
            return NOBODY
        if found.seen_at <= ctx.now - NOTICED:
            session.execute(update(SignedIn).where(SignedIn.token_hash == found.token_hash).values(seen_at=ctx.now))
        account_id = found.person_id if realm.kind == "person" else found.member_id
        account = None if account_id is None else realm.by_id(session, account_id)
        if account is None or not realm.takes(session, account):
            return NOBODY
        needs = not found.outside and realm.needs_factor(session)
        lacks = needs and not second_factor.is_on(session, realm, account.id)
        actor = realm.acting(account)
        return replace(actor, roles=frozenset(), stopped=SET_UP_FIRST) if lacks else actor


def begin(session: Session, ctx: Context, realm: Realm, account_id: int, *, outside: bool = False) -> str:
    """Begin a session, of somebody who came through an outside provider or not: its token."""
    token = ctx.token()
    session.execute(delete(SignedIn).where(or_(SignedIn.expires_at <= ctx.now, SignedIn.seen_at <= ctx.now - IDLE)))
    made = SignedIn(token_hash=hash_token(token), created_at=ctx.now, seen_at=ctx.now, expires_at=ctx.now + SESSION)
    made.outside = outside
    setattr(made, realm.column, account_id)
    session.add(made)
    return token


def began_from(ctx: Context, token: str, address: str, browser: str) -> None:
    """Keep where a session began, and in which browser by its own word."""
    with ctx.transaction() as session:
        here = update(SignedIn).where(SignedIn.token_hash == hash_token(token))
        session.execute(here.values(address=address[:60], browser=browser[:200]))


def own(ctx: Context, realm: Realm, token: str) -> list[SessionView]:
    """The sessions of whoever is signed in with a token, the one used last first. Raises `NotSignedIn`."""
    with ctx.reading() as session:
        return those_of(session, ctx, realm, realm.me(ctx), token)


def those_of(session: Session, ctx: Context, realm: Realm, account_id: int, token: str = "") -> list[SessionView]:
    """The sessions of an account, the one used last first; that of a token is told apart."""
    mine = getattr(SignedIn, realm.column) == account_id
    query = select(SignedIn).where(mine, alive(ctx)).order_by(SignedIn.seen_at.desc(), SignedIn.created_at)
    return [
        SessionView(
            id=one.token_hash[:SHOWN],
            began_at=one.created_at,
            seen_at=one.seen_at,
            address=one.address,
            browser=one.browser,
            this=one.token_hash == hash_token(token),
        )
        for one in session.scalars(query)
    ]


def alive(ctx: Context) -> ColumnElement[bool]:
    """That a session has not ended."""
    return and_(SignedIn.expires_at > ctx.now, SignedIn.seen_at > ctx.now - IDLE)


def end_one(ctx: Context, realm: Realm, session_id: str) -> None:
    """End a session of one's own. Raises `NotSignedIn`, or `NotFound` for another's just as for none."""
    with ctx.transaction() as session:
        named = SignedIn.token_hash.startswith(session_id, autoescape=True)
        found = session.scalars(select(SignedIn).where(_mine(ctx, realm), named)).first()
        if found is None or len(session_id) != SHOWN:
            raise NotFound("there is no such session; it may have ended", session_id[:SHOWN])
        _note_ended(session, ctx, realm, f"begun {found.created_at:%Y-%m-%d %H:%M} UTC")
        session.delete(found)


def end_others(ctx: Context, realm: Realm, token: str) -> None:
    """End all sessions of one's own but the one of a token. Raises `NotSignedIn`."""
    with ctx.transaction() as session:
        session.execute(delete(SignedIn).where(_mine(ctx, realm), SignedIn.token_hash != hash_token(token)))
        _note_ended(session, ctx, realm, "all but one")


def _mine(ctx: Context, realm: Realm) -> ColumnElement[bool]:
    column: ColumnElement[bool] = getattr(SignedIn, realm.column) == realm.me(ctx)
    return column


def _note_ended(session: Session, ctx: Context, realm: Realm, which: str) -> None:
    auditing.note(session, ctx, "ended sessions", (realm.kind, realm.me(ctx), ctx.actor.name), why=which)


def end_all(session: Session, realm: Realm, account_id: int) -> None:
    """End every session of an account."""
    session.execute(delete(SignedIn).where(getattr(SignedIn, realm.column) == account_id))


def address_typed(email: str) -> str:
    """A mail address as somebody types it, as accounts are found by it."""
    return email.strip().lower()[:LONGEST]


def said_from(address: str) -> str:
    """Where a sign-in came from, for the record."""
    return f"from {address}" if address else ""
