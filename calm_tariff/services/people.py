"""Signing in and out, signing up, and who is behind a session."""

from __future__ import annotations

import logging
from dataclasses import dataclass
from datetime import timedelta
from typing import NoReturn

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from calm_tariff.core import names
from calm_tariff.core.errors import Conflict, Invalid, NotSignedIn
from calm_tariff.formats.addresses import looks, mail_address
from calm_tariff.services import auditing, throttling
from calm_tariff.services.context import NOBODY, ROLES, Actor, Context
from calm_tariff.services.secrets import hash_password, hash_token, password_matches
from calm_tariff.store.people import Consumer, Member, Person, ServiceToken, SignedIn

log = logging.getLogger("calm_tariff.sign_in")
SESSION = timedelta(hours=12)
LONGEST = 254


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
    who = ctx.acting(Actor(person.name, person.role, person_id=person.id))
    with ctx.transaction() as session:
        auditing.note(session, who, "signed in", ("person", person.id, email), why=_from(address))
        return _begin(session, ctx, person_id=person.id)


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
        who = ctx.acting(_of_member(member, member.consumer.name))
        auditing.note(session, who, "signed in", ("member", member.id, email), why=_from(address))
        return _begin(session, ctx, member_id=member.id)


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
            return _begin(session, ctx, person_id=person.id)
        if member:
            return _begin(session, ctx, member_id=member.id)
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


def sign_up(ctx: Context, name: str, email: str, organisation: str, password: str) -> str:
    """Make a consumer with its first member, its owner, and sign them in.

    Raises `Invalid` or `Conflict`, naming the field.
    """
    email = mail_address(email)
    name, organisation = names.plain(name, "name"), names.plain(organisation, "organisation")
    look, shape = looks(organisation)
    hashed = hash_password(password)
    with ctx.transaction() as session:
        if session.scalar(select(Member).where(Member.email == email)):
            raise Conflict("somebody has already signed up with this address; sign in instead", "email")
        if session.scalar(select(Consumer.id).where((Consumer.look == look) | (Consumer.shape == shape))):
            raise Conflict(
                "this organisation, or one whose name looks the same, has an account; ask its owner to add you",
                "organisation",
            )
        consumer = Consumer(name=organisation, look=look, shape=shape, created_at=ctx.now)
        session.add(consumer)
        session.flush()
        member = Member(consumer_id=consumer.id, email=email, name=name, role="owner", password_hash=hashed)
        session.add(member)
        session.flush()
        who = ctx.acting(_of_member(member, organisation))
        auditing.note(session, who, "signed up", ("consumer", consumer.id, organisation))
        return _begin(session, ctx, member_id=member.id)


def sign_out(ctx: Context, token: str) -> None:
    """End a session. Ending one that has ended is no error."""
    with ctx.transaction() as session:
        found = session.get(SignedIn, hash_token(token))
        if found is not None:
            kind, identifier = ("person", found.person_id) if found.person_id else ("member", found.member_id)
            auditing.note(session, ctx, "signed out", (kind, identifier or 0, ctx.actor.name))
            session.delete(found)


def who(ctx: Context, token: str | None) -> Actor:
    """Who is behind a browser session's token; nobody where there is none or it has ended."""
    if not token:
        return NOBODY
    with ctx.transaction() as session:
        found = session.get(SignedIn, hash_token(token))
        if found is None or found.expires_at <= ctx.now:
            return NOBODY
        if found.person_id:
            person = session.get_one(Person, found.person_id)
            return Actor(person.name, person.role, person_id=person.id)
        member = session.get_one(Member, found.member_id)
        return _of_member(member, member.consumer.name)


def who_by_service_token(ctx: Context, token: str) -> Actor:
    """Who a script acts as. Raises `NotSignedIn` for an unknown or revoked token."""
    with ctx.transaction() as session:
        query = select(ServiceToken).where(ServiceToken.token_hash == hash_token(token))
        found = session.scalar(query)
        if found is None or found.revoked_at:
            raise NotSignedIn("the service token is unknown or revoked")
        return Actor(f"token {found.label}", found.role, token_id=found.id)


def make_service_token(ctx: Context, label: str, role: str) -> str:
    """A new service token, shown this once. Raises `Invalid` for an unknown role."""
    if role not in ROLES:
        raise Invalid(f"must be one of {', '.join(ROLES)}", "role")
    label = names.plain(label, "label", 200)
    token = f"cts_{ctx.token()}"
    with ctx.transaction() as session:
        made = ServiceToken(label=label, role=role, token_hash=hash_token(token), created_at=ctx.now)
        session.add(made)
        session.flush()
        auditing.note(session, ctx, "made a service token", ("service token", made.id, label))
    return token


def _begin(session: Session, ctx: Context, person_id: int | None = None, member_id: int | None = None) -> str:
    token = ctx.token()
    session.execute(delete(SignedIn).where(SignedIn.expires_at <= ctx.now))
    session.add(
        SignedIn(
            token_hash=hash_token(token), person_id=person_id, member_id=member_id,
            created_at=ctx.now, expires_at=ctx.now + SESSION,
        )
    )  # fmt: skip
    return token


def _of_member(member: Member, consumer: str) -> Actor:
    return Actor(member.name, "", member_id=member.id, consumer_id=member.consumer_id, consumer=consumer)
