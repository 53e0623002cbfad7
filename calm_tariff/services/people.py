"""Signing in and out, and who is behind a session."""

from __future__ import annotations

import logging
from dataclasses import dataclass
from datetime import timedelta
from typing import Literal, NoReturn

from sqlalchemy import delete, or_, select, update
from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotSignedIn
from calm_tariff.services import auditing, throttling
from calm_tariff.services.context import NOBODY, Actor, Context
from calm_tariff.services.secrets import hash_token, password_matches
from calm_tariff.store.people import Member, Person, SignedIn

log = logging.getLogger("calm_tariff.sign_in")
SESSION = timedelta(hours=12)
# A session that nothing was asked with for so long has ended. When it was last used is kept to the minute.
IDLE = timedelta(hours=1)
NOTICED = timedelta(minutes=1)
LONGEST = 254
Kind = Literal["person", "member"]


@dataclass(frozen=True, slots=True)
class SignIn:
    """One of the sign-ins a demo offers."""

    email: str
    name: str
    role: str


def sign_in_person(ctx: Context, email: str, password: str, address: str = "") -> str:
    """A session token for somebody of the provider. Raises `NotSignedIn`, or `TooMany`."""
    email = email.strip().lower()[:LONGEST]
    throttling.attempt(ctx, f"person {email}", address)
    with ctx.transaction() as session:
        person = session.scalar(select(Person).where(Person.email == email))
        right = password_matches(person.password_hash if person else None, password)
    if not right or person is None:
        _turned_away(ctx, "person", email, address)
    throttling.forgive(ctx, f"person {email}", address)
    who = ctx.acting(of_person(person))
    with ctx.transaction() as session:
        auditing.note(session, who, "signed in", ("person", person.id, email), why=_from(address))
        return begin(session, ctx, person_id=person.id)


def sign_in_member(ctx: Context, email: str, password: str, address: str = "") -> str:
    """A session token for somebody of a consumer. Raises `NotSignedIn`, or `TooMany`."""
    email = email.strip().lower()[:LONGEST]
    throttling.attempt(ctx, f"member {email}", address)
    with ctx.transaction() as session:
        member = session.scalar(select(Member).where(Member.email == email))
        right = password_matches(member.password_hash if member else None, password)
    if not right or member is None:
        _turned_away(ctx, "member", email, address)
    throttling.forgive(ctx, f"member {email}", address)
    with ctx.transaction() as session:
        who = ctx.acting(of_member(member, member.consumer.name))
        auditing.note(session, who, "signed in", ("member", member.id, email), why=_from(address))
        return begin(session, ctx, member_id=member.id)


def _turned_away(ctx: Context, kind: str, email: str, address: str) -> NoReturn:
    """Say that a sign-in failed, to the record, the log and who tried; never whether the account is there."""
    with ctx.transaction() as session:
        auditing.note(session, ctx, "was turned away at the sign-in", (kind, 0, email), why=_from(address))
    log.warning("a sign-in as %s from %s failed", email, address or "an unknown address")
    raise NotSignedIn("the e-mail address or the password is not right", "password")


def _from(address: str) -> str:
    return f"from {address}" if address else ""


def demo_sign_in(ctx: Context, email: str) -> str:
    """A session without password, for the buttons of a demo. The caller checks that this is one."""
    with ctx.transaction() as session:
        person = session.scalar(select(Person).where(Person.email == email))
        member = session.scalar(select(Member).where(Member.email == email))
        if person:
            return begin(session, ctx, person_id=person.id)
        if member:
            return begin(session, ctx, member_id=member.id)
        raise NotSignedIn("there is no such demo sign-in", "email")


def demo_people(ctx: Context) -> list[SignIn]:
    """The staff a demo offers to sign in as."""
    with ctx.transaction() as session:
        return [SignIn(p.email, p.name, p.role) for p in session.scalars(select(Person).order_by(Person.id))]


def demo_members(ctx: Context) -> list[SignIn]:
    """The consumers' members a demo offers to sign in as."""
    with ctx.transaction() as session:
        query = select(Member).order_by(Member.id).limit(6)
        return [SignIn(m.email, m.name, m.consumer.name) for m in session.scalars(query)]


def sign_out(ctx: Context, token: str) -> None:
    """End a session. Ending one that has ended is no error."""
    with ctx.transaction() as session:
        found = session.get(SignedIn, hash_token(token))
        if found is not None:
            kind, identifier = ("person", found.person_id) if found.person_id else ("member", found.member_id)
            auditing.note(session, ctx, "signed out", (kind, identifier or 0, ctx.actor.name))
            session.delete(found)


def who(ctx: Context, token: str | None, kind: Kind | None = None) -> Actor:
    """Who is behind a browser session's token; nobody where there is none, it has ended, or it is of another kind."""
    if not token:
        return NOBODY
    with ctx.transaction() as session:
        found = session.get(SignedIn, hash_token(token))
        if found is None or found.expires_at <= ctx.now or found.seen_at <= ctx.now - IDLE:
            return NOBODY
        if found.seen_at <= ctx.now - NOTICED:
            session.execute(update(SignedIn).where(SignedIn.token_hash == found.token_hash).values(seen_at=ctx.now))
        if kind not in (None, "person" if found.person_id else "member"):
            return NOBODY
        if found.person_id:
            return of_person(session.get_one(Person, found.person_id))
        member = session.get_one(Member, found.member_id)
        return of_member(member, member.consumer.name)


def begin(session: Session, ctx: Context, person_id: int | None = None, member_id: int | None = None) -> str:
    """Begin a session of a person or a member: its token."""
    token = ctx.token()
    session.execute(delete(SignedIn).where(or_(SignedIn.expires_at <= ctx.now, SignedIn.seen_at <= ctx.now - IDLE)))
    session.add(
        SignedIn(
            token_hash=hash_token(token), person_id=person_id, member_id=member_id,
            created_at=ctx.now, seen_at=ctx.now, expires_at=ctx.now + SESSION,
        )
    )  # fmt: skip
    return token


def of_person(person: Person) -> Actor:
    """Somebody of the provider as who acts."""
    return Actor(person.name, person.role, person_id=person.id)


def of_member(member: Member, consumer: str) -> Actor:
    """Somebody of a consumer as who acts."""
    return Actor(member.name, "", member_id=member.id, consumer_id=member.consumer_id, consumer=consumer)
