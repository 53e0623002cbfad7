"""Signing in through a portal's outside provider: whom it knows is found here, or makes an account.

Somebody is sent there with a state that their browser keeps, and comes back with a code, once. Whom the provider names
is the member it named before; or, the first time, the one with the mail address that it has verified, who is told by
letter. A second factor is asked for here as ever.
"""

from __future__ import annotations

import logging
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Invalid, NotFound
from calm_tariff.formats.openid import Identity
from calm_tariff.services.admit import sign_up
from calm_tariff.services.admit.members import MEMBERS, who_enter
from calm_tariff.services.admit.portals import identity_provider
from calm_tariff.services.admit.portals.serving import PortalAsked
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.secrets import NO_PASSWORD
from calm_tariff.services.house.signing_in import outside, proof, second_factor, sessions, throttling
from calm_tariff.services.house.signing_in.outside import Begun
from calm_tariff.store.admit.consumers import Member
from calm_tariff.store.admit.identities import MemberIdentity
from calm_tariff.store.base.locking import locked
from calm_tariff.store.house.identities import OutsideSignIn

log = logging.getLogger("calm_tariff.sign_in")


@dataclass(frozen=True, slots=True)
class CameBack:
    """Who came back: signed in by a session's `token`, or, without one, as somebody who has no account yet, by the name
    and the verified mail address that the provider tells."""

    token: str
    email: str = ""
    name: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class IdentityView:
    """A provider through which a member signs in."""

    id: int
    provider: str
    issuer: str
    linked_at: datetime


def begin(ctx: Context, portal: PortalAsked, address: str = "") -> Begun:
    """Begin a sign-in. Raises `NotFound` where the portal has no provider, or `TooMany`."""
    throttling.begun(ctx, "provider", address)
    with ctx.transaction() as session:
        return outside.begin(session, ctx, identity_provider.client(session, ctx, portal.id), portal.id)


def waiting(ctx: Context, portal: PortalAsked, state: str) -> Begun:
    """The sign-in that a state belongs to, whose answer has not come; it is good for one answer. Raises `NotFound`."""
    with ctx.transaction() as session:
        return outside.waiting(session, ctx, identity_provider.client(session, ctx, portal.id), state, portal.id)


def answered(ctx: Context, portal: PortalAsked, state: str, who: Identity, address: str = "") -> CameBack:
    """Take whom the provider names. Raises `NotFound`, `NotSignedIn` with `code` as its place where a second factor is
    to be shown (see `go_on`), or `Invalid` where no account can be made of it."""
    with ctx.transaction() as session:
        outside.came_back(outside.on_the_way(session, ctx, state, portal.id), who)
    return go_on(ctx, portal, state, "", address)


def go_on(ctx: Context, portal: PortalAsked, state: str, code: str, address: str = "") -> CameBack:
    """Sign in whom the provider named, with a code of their second factor where they have one. Raises as `answered`."""
    realm = who_enter(portal)
    with ctx.transaction() as session:
        found = outside.named(session, ctx, state, portal.id)
        member = _member(session, found)
        if member is not None and not realm.takes(session, member):
            raise Invalid("whoever has this account does not sign in at this portal", "provider")
        if member is None:
            if not found.email:
                raise Invalid("the provider has verified no mail address of yours; sign up by letter instead", "email")
            sign_up.must_be_taken_here(session, ctx, found.email)
            return CameBack("", found.email, found.name)
        email = member.email
    throttling.attempt(ctx, f"member {email}", address)
    with ctx.transaction() as session:
        found = outside.named(session, ctx, state, portal.id)
        member = _member(session, found)
        if member is None or member.email != email:
            raise outside.over()
        second_factor.must_be_shown(session, ctx, realm, member, code)
        if outside.identity(session, MemberIdentity, found) is None:
            _link(session, ctx, found, member)
            proof.changed(session, ctx, realm, member, "outside sign-in")
        provider = identity_provider.name_of(session, portal.id)
        why = f"through {provider} from {address}" if address else f"through {provider}"
        who = ctx.acting(realm.acting(member))
        auditing.note(session, who, "signed in", ("member", member.id, member.email), why=why)
        token = sessions.begin(session, ctx, realm, member.id)
        session.delete(found)
    throttling.forgive(ctx, f"member {email}", address)
    return CameBack(token)


def open_account(ctx: Context, portal: PortalAsked, state: str, name: str, organisation: str) -> str:
    """Make an account for whom the provider named and nobody knows here; the session's token. They have no password
    until they set one by letter. Raises `NotFound`, `Invalid` or `Conflict`, naming the field."""
    with ctx.transaction() as session:
        found = outside.named(session, ctx, state, portal.id)
        if not found.email or _member(session, found) is not None:
            raise outside.over()
        joined = ctx.joining(session)
        sign_up.must_be_taken_here(session, ctx, found.email)
        typed = sign_up.SignUpTyped(name=name, organisation=organisation, password="")
        token = sign_up.open_account(joined, found.email, typed, NO_PASSWORD)
        member = session.scalars(select(Member).where(Member.email == found.email)).one()
        _link(session, ctx, found, member)
        session.delete(found)
        return token


def own(ctx: Context) -> list[IdentityView]:
    """Through which providers the signed-in member signs in. Raises `NotSignedIn`."""
    with ctx.reading() as session:
        query = select(MemberIdentity).where(MemberIdentity.member_id == MEMBERS.me(ctx)).order_by(MemberIdentity.id)
        return [
            IdentityView(id=each.id, provider=each.provider, issuer=each.issuer, linked_at=each.linked_at)
            for each in session.scalars(query)
        ]


def unlink(ctx: Context, identity_id: int) -> None:
    """Sign in through a provider no more. Raises `NotSignedIn`, or `NotFound` for another's just as for none."""
    with ctx.transaction() as session:
        me = MEMBERS.me(ctx)
        found = locked(session, MemberIdentity, identity_id)
        if found is None or found.member_id != me:
            raise NotFound("you sign in through no such provider", str(identity_id))
        subject = ("member", me, ctx.actor.name)
        auditing.note(
            session, ctx, "stopped signing in through a provider", subject, before={"provider": found.provider}
        )
        session.delete(found)


def forget(session: Session, member_id: int) -> None:
    """Forget by whom somebody was known who is no longer there."""
    session.execute(delete(MemberIdentity).where(MemberIdentity.member_id == member_id))


def _member(session: Session, of: OutsideSignIn) -> Member | None:
    """The member whom the provider named before, or who has the mail address that it has verified."""
    linked = outside.identity(session, MemberIdentity, of)
    if linked is not None:
        return session.get(Member, linked.member_id)
    return session.scalar(select(Member).where(Member.email == of.email)) if of.email else None


def _link(session: Session, ctx: Context, of: OutsideSignIn, member: Member) -> None:
    session.add(
        MemberIdentity(
            member_id=member.id,
            provider=identity_provider.name_of(session, of.portal_id) if of.portal_id is not None else "",
            issuer=of.issuer,
            subject=of.subject,
            linked_at=ctx.now,
        )
    )
    session.flush()
