"""Signing up: first an address is shown to be one's own, then the account is made.

Nothing a stranger types is kept or sent to anybody before that, and asking answers the same for every address.
"""

from __future__ import annotations

import logging
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from calm_tariff.core import names
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.formats.addresses import looks, mail_address
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.notices import Notice, Recipient, notify
from calm_tariff.services.base.secrets import hash_password, hash_token
from calm_tariff.services.house import sessions, throttling
from calm_tariff.store.admit.consumers import AwaitedSignUp, Consumer, Member
from calm_tariff.store.base.locking import locked

log = logging.getLogger("calm_tariff.sign_in")
WAITS = timedelta(hours=24)


@dataclass(frozen=True, slots=True, kw_only=True)
class SignUpTyped:
    """What somebody types who has shown that an address is theirs."""

    name: str
    organisation: str
    password: str


def ask(ctx: Context, email: str, address: str = "") -> None:
    """Write to an address how to go on, or that it has an account already. Raises `Invalid` or `TooMany`."""
    email = mail_address(email)
    throttling.letter(ctx, email, address)
    token = ctx.token()
    with ctx.transaction() as session:
        if session.scalar(select(Member.id).where(Member.email == email)):
            notice = Notice(kind="account there already", page="/portal/sign-in", confidential=True)
        else:
            session.execute(delete(AwaitedSignUp).where(AwaitedSignUp.email == email))
            session.add(AwaitedSignUp(token_hash=hash_token(token), email=email, expires_at=ctx.now + WAITS))
            notice = Notice(kind="account asked for", page=f"/portal/confirm#{token}", confidential=True)
        notify(session, ctx, [Recipient(email=email)], notice)
    log.info("an account was asked for from %s", address or "an unknown address")


def confirm(ctx: Context, token: str, typed: SignUpTyped, address: str = "") -> str:
    """Make the account of whoever has the letter, and sign them in; returns the session's token. The letter is good
    once. Raises `NotFound` where it is not, `TooMany`, or `Invalid` or `Conflict`, naming the field."""
    place = hash_token(token)
    throttling.attempt(ctx, f"letter {place}", address)
    with ctx.transaction() as session:
        _awaited(session, ctx, place)
    hashed = hash_password(typed.password)
    with ctx.transaction() as session:
        awaited = _awaited(session, ctx, place)
        made = open_account(ctx.joining(session), awaited.email, typed, hashed)
        session.delete(awaited)
        return made


def open_account(ctx: Context, email: str, typed: SignUpTyped, hashed: str | None = None) -> str:
    """Make a consumer with its first member, its owner, and sign them in; returns the session's token. The caller
    answers for the address. Raises `Invalid` or `Conflict`, naming the field."""
    email = mail_address(email)
    name, organisation = names.plain(typed.name, "name"), names.plain(typed.organisation, "organisation")
    look, shape = looks(organisation)
    hashed = hashed or hash_password(typed.password)
    with ctx.transaction() as session:
        if session.scalar(select(Member.id).where(Member.email == email)):
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
        who = ctx.acting(MEMBERS.acting(member))
        auditing.note(session, who, "signed up", ("consumer", consumer.id, organisation))
        return sessions.begin(session, ctx, MEMBERS, member.id)


def forget(ctx: Context) -> None:
    """Throw away what nobody confirmed in time."""
    with ctx.transaction() as session:
        session.execute(delete(AwaitedSignUp).where(AwaitedSignUp.expires_at <= ctx.now))


def _awaited(session: Session, ctx: Context, place: str) -> AwaitedSignUp:
    found = locked(session, AwaitedSignUp, place)
    if found is None or found.expires_at <= ctx.now:
        raise NotFound("this letter was used, is too old, or a newer one was asked for; ask again", "token")
    return found
