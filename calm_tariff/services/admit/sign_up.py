"""Signing up: first an address is shown to be one's own, then the account is made.

Nothing a stranger types is kept or sent to anybody before that, and asking answers the same for every address.
"""

from __future__ import annotations

import logging
from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from calm_tariff.core import names, portals
from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.portals import Entrance, SignUp
from calm_tariff.formats.addresses import looks, mail_address
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.portals import serving
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.notices import Notice, Recipient, notify
from calm_tariff.services.base.secrets import hash_password, hash_token
from calm_tariff.services.house.signing_in import sessions, throttling
from calm_tariff.store.admit.consumers import AwaitedSignUp, Consumer, Member
from calm_tariff.store.admit.portals import Portal
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
    """Write to an address how to go on, or that it has an account already. Raises `TooMany`, and `Invalid` for an
    address that the portal takes nobody of."""
    email = mail_address(email)
    throttling.letter(ctx, email, address)
    token = ctx.token()
    with ctx.transaction() as session:
        portal = _portal(session, ctx)
        _must_be_taken(portal, email)
        if session.scalar(select(Member.id).where(Member.email == email)):
            notice = Notice(kind="account there already", page="/sign-in", confidential=True)
        else:
            await_answer(session, ctx, email, portal, token)
            notice = Notice(kind="account asked for", page=f"/confirm#{token}", confidential=True)
        notify(session, ctx, [Recipient(email=email, at=portal.where)], notice)
    log.info("an account was asked for from %s", address or "an unknown address")


def await_answer(session: Session, ctx: Context, email: str, portal: Portal, token: str) -> AwaitedSignUp:
    """Keep that an address may make an account by the token of a letter; an earlier letter is good no more, but whoever
    was invited stays so."""
    earlier = list(session.scalars(select(AwaitedSignUp).where(AwaitedSignUp.email == email)))
    made = AwaitedSignUp(token_hash=hash_token(token), email=email, portal_id=portal.id, expires_at=ctx.now + WAITS)
    for each in earlier:
        if each.invited_by and each.portal_id == portal.id:
            made.invited_by, made.invited_at = each.invited_by, each.invited_at
        session.delete(each)
    session.flush()
    session.add(made)
    return made


def confirm(ctx: Context, token: str, typed: SignUpTyped, address: str = "") -> str:
    """Make the account of whoever has the letter, and sign them in; returns the session's token. The letter is good
    once, at the portal that it leads to. Raises `NotFound` where it is not, `TooMany`, or `Invalid` or `Conflict`,
    naming the field."""
    place = hash_token(token)
    throttling.attempt(ctx, f"letter {place}", address, where="")
    with ctx.transaction() as session:
        _awaited(session, ctx, place)
    hashed = hash_password(typed.password)
    with ctx.transaction() as session:
        awaited = _awaited(session, ctx, place)
        _must_be_taken(_portal(session, ctx), awaited.email, invited=awaited.invited_by is not None)
        made = open_account(ctx.joining(session), awaited.email, typed, hashed)
        session.delete(awaited)
        return made


def open_account(ctx: Context, email: str, typed: SignUpTyped, hashed: str | None = None) -> str:
    """Make a consumer with its first member, its owner, and sign them in; returns the session's token. The caller
    answers for the address. Where the portal looks at new organisations first, it waits to be let in. Raises `Invalid`
    or `Conflict`, naming the field."""
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
        portal = _portal(session, ctx)
        consumer = Consumer(
            name=organisation,
            look=look,
            shape=shape,
            created_at=ctx.now,
            state="let in" if portal.at_once else "waiting",
            portal=portal,
        )
        session.add(consumer)
        session.flush()
        member = Member(
            consumer_id=consumer.id, email=email, name=name, role="owner", password_hash=hashed, joined_at=ctx.now
        )
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
    here = ctx.actor.portal_id
    if found is None or found.expires_at <= ctx.now or here not in (None, found.portal_id):
        raise NotFound("this letter was used, is too old, or a newer one was asked for; ask again", "token")
    return found


def _portal(session: Session, ctx: Context) -> Portal:
    """The portal that somebody signs up at: the one they came by, or the first."""
    here = ctx.actor.portal_id
    return serving.first(session) if here is None else session.get_one(Portal, here)


def must_be_taken_here(session: Session, ctx: Context, email: str) -> None:
    """See that somebody with an address may make an account at the portal they came by, or was invited there. Raises
    `Invalid`."""
    portal = _portal(session, ctx)
    mine = (AwaitedSignUp.email == email, AwaitedSignUp.portal_id == portal.id, AwaitedSignUp.expires_at > ctx.now)
    invited = session.scalar(select(AwaitedSignUp.token_hash).where(*mine, AwaitedSignUp.invited_by.is_not(None)))
    _must_be_taken(portal, email, invited=invited is not None)


def _must_be_taken(portal: Portal, email: str, invited: bool = False) -> None:
    sign_up: SignUp = portal.sign_up  # type: ignore[assignment]
    rule = Entrance(sign_up=sign_up, domains=tuple(portal.mail_domains))
    why_not = portals.refusal(rule, email, invited)
    if why_not:
        raise Invalid(why_not, "email")
