"""Inviting somebody to belong to one's organisation: whoever has the letter makes their own sign-in."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from calm_tariff.core import membership, names
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.membership import Role
from calm_tariff.core.sentences import role_in_words
from calm_tariff.formats.addresses import mail_address
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.organisation.belonging import PAGE, Invited, invited_view
from calm_tariff.services.admit.portals.serving import PortalAsked
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.notices import Notice, Recipient, members, notify
from calm_tariff.services.base.secrets import hash_password, hash_token
from calm_tariff.services.house.signing_in import sessions, throttling
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.consumers import Consumer, Member, MemberInvitation
from calm_tariff.store.base.locking import hold, locked

WAITS = timedelta(days=14)
# So many may be invited at once.
MOST = 50


@dataclass(frozen=True, slots=True, kw_only=True)
class Joining:
    """What somebody types who accepts an invitation, with the token of its letter."""

    token: str
    name: str
    password: str


@dataclass(frozen=True, slots=True, kw_only=True)
class InvitationSeen:
    """What whoever has the letter reads before they accept: who invites them, to what, as what, and what that may."""

    organisation: str
    invited_by: str
    email: str
    role: Role
    may: str


def invite(ctx: Context, email: str, to: Role) -> Invited:
    """Invite whoever has a mail address, as a role; another letter makes the one before good no more. What is answered
    does not tell whether the address signs in for another organisation. Raises `Invalid`, `TooMany`, or `Conflict`
    where they belong to this one already."""
    owner = ctx.actor.consumer_to("run the account")
    email = mail_address(email)
    throttling.letter(ctx, email, f"consumer {owner}")
    token = ctx.token()
    with ctx.transaction() as session:
        hold(session, Consumer, owner)
        consumer = session.get_one(Consumer, owner)
        there = session.scalar(select(Member).where(Member.email == email))
        if there is not None and there.consumer_id == owner:
            raise Conflict(f"{there.name} belongs to it already, as {there.role}", "email")
        mine = MemberInvitation.consumer_id == owner
        session.execute(delete(MemberInvitation).where(mine, MemberInvitation.email == email))
        if (session.scalar(select(func.count()).where(mine)) or 0) >= MOST:
            raise Conflict(f"{MOST} are invited and have not come; take some back first", "email")
        made = MemberInvitation(
            token_hash=hash_token(token),
            consumer=consumer,
            email=email,
            role=to,
            invited_by=ctx.actor.name,
            invited_at=ctx.now,
            expires_at=ctx.now + WAITS,
        )
        session.add(made)
        session.flush()
        fields = {"by": ctx.actor.name, "organisation": consumer.name, "portal": consumer.portal.name}
        if there is not None:
            notice = Notice(kind="member invited elsewhere", fields=fields, page="/sign-in", confidential=True)
        else:
            fields |= {"role": to, "days": str(WAITS.days)}
            notice = Notice(kind="member invited", fields=fields, page=f"/join#{token}", confidential=True)
        notify(session, ctx, [Recipient(email=email, at=consumer.portal.where)], notice)
        auditing.note(session, ctx, f"invited {email} as {to}", ("consumer", consumer.id, consumer.name))
        return invited_view(ctx, made)


def take_back(ctx: Context, invitation_id: int) -> None:
    """Make the letter of somebody who was invited good no more. Raises `NotFound`."""
    with ctx.transaction() as session:
        owner = ctx.actor.consumer_to("run the account")
        found = locked(session, MemberInvitation, invitation_id)
        if found is None or found.consumer_id != owner:
            raise NotFound("there is no such invitation", str(invitation_id))
        subject = ("consumer", owner, found.consumer.name)
        auditing.note(session, ctx, f"took the invitation of {found.email} back", subject)
        session.delete(found)


def seen(ctx: Context, portal: PortalAsked, token: str, address: str = "") -> InvitationSeen:
    """What an invitation says, for whoever has its letter. Raises `NotFound`, or `TooMany`."""
    place = hash_token(token)
    throttling.attempt(ctx, f"letter {place}", address, where="")
    with ctx.transaction() as session:
        found = _by_letter(session, ctx, portal, place)
        return InvitationSeen(
            organisation=found.consumer.name,
            invited_by=found.invited_by,
            email=found.email,
            role=membership.role(found.role),
            may=role_in_words(membership.role(found.role)),
        )


def accept(ctx: Context, portal: PortalAsked, typed: Joining, address: str = "") -> str:
    """Make the sign-in of whoever has the letter, and sign them in; returns the session's token. The letter is good
    once. The organisation's owners are told. Raises `NotFound`, `TooMany`, `Invalid`, or `Conflict` where the address
    signs in for another organisation by now."""
    place = hash_token(typed.token)
    throttling.attempt(ctx, f"letter {place}", address, where="")
    name = names.plain(typed.name, "name")
    with ctx.transaction() as session:
        _by_letter(session, ctx, portal, place)
    hashed = hash_password(typed.password)
    with ctx.transaction() as session:
        found = _by_letter(session, ctx, portal, place)
        if session.scalar(select(Member.id).where(Member.email == found.email)):
            raise Conflict("this address signs in for another organisation already", "email")
        told = subscribers.members_who_may(session, found.consumer_id, "run the account")
        member = Member(consumer_id=found.consumer_id, email=found.email, name=name, role=found.role)
        member.password_hash, member.joined_at = hashed, ctx.now
        fields = {"who": name, "by": found.invited_by, "organisation": found.consumer.name, "role": found.role}
        session.add(member)
        session.delete(found)
        session.flush()
        who, subject = ctx.acting(MEMBERS.acting(member)), ("member", member.id, member.email)
        auditing.note(session, who, "accepted an invitation", subject, after={"role": member.role})
        notify(session, ctx, members(told), Notice(kind="member joined", fields=fields, page=PAGE))
        return sessions.begin(session, ctx, MEMBERS, member.id)


def forget(ctx: Context) -> None:
    """Throw away invitations that were over long ago."""
    with ctx.transaction() as session:
        session.execute(delete(MemberInvitation).where(MemberInvitation.expires_at <= ctx.now - WAITS))


def _by_letter(session: Session, ctx: Context, portal: PortalAsked, place: str) -> MemberInvitation:
    named = session.scalar(select(MemberInvitation.id).where(MemberInvitation.token_hash == place))
    found = locked(session, MemberInvitation, named) if named is not None else None
    over = found is None or found.expires_at <= ctx.now or found.consumer.state == "closed"
    if found is None or over or not portal.serves(session, found.consumer_id):
        raise NotFound("this invitation was used, taken back, or is too old; ask to be invited again", "token")
    return found
