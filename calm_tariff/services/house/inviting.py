"""Inviting somebody to be one of the provider's people: whoever has the letter makes their own sign-in."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from calm_tariff.core import house, names
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.house import OWNER, HouseRole
from calm_tariff.formats.addresses import mail_address
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.services.base.notices import Notice, Recipient, notify
from calm_tariff.services.base.secrets import hash_password, hash_token
from calm_tariff.services.house import people
from calm_tariff.services.house.people import PAGE, PEOPLE
from calm_tariff.services.house.signing_in import sessions, throttling
from calm_tariff.store.base.locking import locked
from calm_tariff.store.house.people import Person, PersonInvitation

WAITS = timedelta(days=14)
# So many may be invited at once.
MOST = 50


@dataclass(frozen=True, slots=True, kw_only=True)
class InvitedView:
    """Somebody who was invited and has not come yet; `over` where the letter is too old."""

    id: int
    email: str
    roles: list[HouseRole]
    invited_by: str
    invited_at: datetime
    expires_at: datetime
    over: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class LetterSeen:
    """What whoever has the letter reads before they come in: whose house, who invites them, and as what."""

    provider: str
    invited_by: str
    email: str
    roles: list[HouseRole]


@dataclass(frozen=True, slots=True, kw_only=True)
class ComingIn:
    """What somebody types who comes in, with the token of their letter."""

    token: str
    name: str
    password: str


def everyone(ctx: Context) -> list[InvitedView]:
    """Who was invited and has not come, the last first; for an owner of the house."""
    ctx.actor.must_be(OWNER)
    with ctx.reading() as session:
        found = session.scalars(select(PersonInvitation).order_by(PersonInvitation.id.desc()))
        return [_view(ctx, invitation) for invitation in found]


def invite(ctx: Context, email: str, roles: Sequence[str]) -> InvitedView:
    """Write to somebody how to come in, with roles; another letter makes the one before good no more. Raises `Invalid`,
    naming the field, `TooMany`, or `Conflict` where they are here already."""
    ctx.actor.must_be(OWNER)
    email, wanted = mail_address(email), list(house.roles_of(roles))
    throttling.letter(ctx, email, "the house")
    token = ctx.token()
    with ctx.transaction() as session:
        _refuse_known(session, email)
        session.execute(delete(PersonInvitation).where(PersonInvitation.email == email))
        if (session.scalar(select(func.count()).select_from(PersonInvitation)) or 0) >= MOST:
            raise Conflict(f"{MOST} are invited and have not come; take some back first", "email")
        made = PersonInvitation(
            token_hash=hash_token(token),
            email=email,
            roles=wanted,
            invited_by=ctx.actor.name,
            invited_at=ctx.now,
            expires_at=ctx.now + WAITS,
        )
        session.add(made)
        session.flush()
        fields = {"by": ctx.actor.name, "roles": " and ".join(wanted), "days": str(WAITS.days)}
        notice = Notice(kind="colleague invited", fields=fields, page=f"/join#{token}", confidential=True)
        notify(session, ctx, [Recipient(email=email)], notice)
        subject = ("provider", provider_of(session).id, provider_of(session).name)
        auditing.note(session, ctx, f"invited {email}", subject, after={"roles": wanted})
        return _view(ctx, made)


def take_back(ctx: Context, invitation_id: int) -> None:
    """Make the letter of somebody who was invited good no more. Raises `NotFound`."""
    ctx.actor.must_be(OWNER)
    with ctx.transaction() as session:
        provider = provider_of(session)
        found = locked(session, PersonInvitation, invitation_id)
        if found is None:
            raise NotFound("there is no such invitation", str(invitation_id))
        subject = ("provider", provider.id, provider.name)
        auditing.note(session, ctx, f"took the invitation of {found.email} back", subject)
        session.delete(found)


def seen(ctx: Context, token: str, address: str = "") -> LetterSeen:
    """What an invitation says, for whoever has its letter. Raises `NotFound`, or `TooMany`."""
    place = hash_token(token)
    throttling.attempt(ctx, f"letter {place}", address, where="")
    with ctx.transaction() as session:
        found = _by_letter(session, ctx, place)
        return LetterSeen(
            provider=provider_of(session).name, invited_by=found.invited_by, email=found.email, roles=found.roles
        )


def accept(ctx: Context, typed: ComingIn, address: str = "") -> str:
    """Make the sign-in of whoever has the letter, and sign them in; returns the session's token. The letter is good
    once, and the house's owners are told. Raises `NotFound`, `TooMany`, `Invalid`, naming the field, or `Conflict`."""
    place = hash_token(typed.token)
    throttling.attempt(ctx, f"letter {place}", address, where="")
    name = names.plain(typed.name, "name")
    with ctx.transaction() as session:
        _by_letter(session, ctx, place)
    hashed = hash_password(typed.password)
    with ctx.transaction() as session:
        found = _by_letter(session, ctx, place)
        _refuse_known(session, found.email)
        told = people.owners(session)
        person = Person(email=found.email, name=name, roles=found.roles, password_hash=hashed, joined_at=ctx.now)
        session.add(person)
        session.delete(found)
        session.flush()
        who, subject = ctx.acting(PEOPLE.acting(person)), ("person", person.id, person.email)
        auditing.note(session, who, "accepted an invitation", subject, after={"roles": person.roles})
        fields = {"who": name, "by": found.invited_by, "roles": " and ".join(person.roles)}
        notify(
            session,
            ctx,
            [PEOPLE.recipient(owner) for owner in told],
            Notice(kind="colleague joined", fields=fields, page=PAGE),
        )
        return sessions.begin(session, ctx, PEOPLE, person.id)


def forget(ctx: Context) -> None:
    """Throw away invitations that were over long ago."""
    with ctx.transaction() as session:
        session.execute(delete(PersonInvitation).where(PersonInvitation.expires_at <= ctx.now - WAITS))


def _refuse_known(session: Session, email: str) -> None:
    there = PEOPLE.by_email(session, email)
    if there is not None and PEOPLE.takes(session, there):
        raise Conflict(f"{there.name} signs in with this address already", "email")
    if there is not None:
        raise Conflict(f"{there.name} has this address and was deactivated; let them in again instead", "email")


def _by_letter(session: Session, ctx: Context, place: str) -> PersonInvitation:
    named = session.scalar(select(PersonInvitation.id).where(PersonInvitation.token_hash == place))
    found = locked(session, PersonInvitation, named) if named is not None else None
    if found is None or found.expires_at <= ctx.now:
        raise NotFound("this invitation was used, taken back, or is too old; ask to be invited again", "token")
    return found


def _view(ctx: Context, i: PersonInvitation) -> InvitedView:
    return InvitedView(
        id=i.id,
        email=i.email,
        roles=i.roles,
        invited_by=i.invited_by,
        invited_at=i.invited_at,
        expires_at=i.expires_at,
        over=i.expires_at <= ctx.now,
    )
