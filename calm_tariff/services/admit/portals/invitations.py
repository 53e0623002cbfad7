"""Inviting organisations to a portal: whoever has the letter makes its account, whoever else may sign up there."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.formats.addresses import mail_address
from calm_tariff.services.admit import sign_up
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.base.notices import Notice, Recipient, notify
from calm_tariff.store.admit.consumers import AwaitedSignUp, Member
from calm_tariff.store.admit.portals import Portal

WAITS = timedelta(days=14)


@dataclass(frozen=True, slots=True, kw_only=True)
class InvitationView:
    """Somebody who was invited and has not answered yet; `over` where the letter is good no more."""

    email: str
    invited_by: str
    invited_at: datetime
    expires_at: datetime
    over: bool


def listed(ctx: Context, portal_id: int) -> list[InvitationView]:
    """Whoever was invited to a portal and has not answered, the newest first. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        _portal(session, portal_id)
        query = select(AwaitedSignUp).where(AwaitedSignUp.portal_id == portal_id, AwaitedSignUp.invited_by.is_not(None))
        return [_view(ctx, each) for each in session.scalars(query.order_by(AwaitedSignUp.invited_at.desc()))]


def invite(ctx: Context, portal_id: int, email: str) -> InvitationView:
    """Invite whoever has a mail address to make their organisation's account; another letter makes the one before good
    no more. Raises `NotFound`, `Invalid`, or `Conflict` where the address has an account."""
    ctx.actor.must_be("product manager", "reviewer")
    email = mail_address(email)
    token = ctx.token()
    with ctx.transaction() as session:
        portal = _portal(session, portal_id)
        if session.scalar(select(Member.id).where(Member.email == email)):
            raise Conflict("somebody with this address has an account already", "email")
        made = sign_up.await_answer(session, ctx, email, portal, token)
        made.invited_by, made.invited_at, made.expires_at = ctx.actor.name, ctx.now, ctx.now + WAITS
        fields = {"by": ctx.actor.name, "portal": portal.name, "days": WAITS.days}
        notice = Notice(kind="account invited", fields=fields, page=f"/confirm#{token}", confidential=True)
        notify(session, ctx, [Recipient(email=email, at=portal.where)], notice)
        auditing.note(session, ctx, f"invited {email}", ("portal", portal.id, portal.name))
        return _view(ctx, made)


def take_back(ctx: Context, portal_id: int, email: str) -> None:
    """Make the letter of somebody who was invited good no more. Raises `NotFound`."""
    ctx.actor.must_be("product manager", "reviewer")
    with ctx.transaction() as session:
        portal = _portal(session, portal_id)
        query = select(AwaitedSignUp).where(
            AwaitedSignUp.portal_id == portal_id,
            AwaitedSignUp.email == email.strip().lower(),
            AwaitedSignUp.invited_by.is_not(None),
        )
        found = session.scalar(query)
        if found is None:
            raise NotFound("nobody with this address is invited", "email")
        session.delete(found)
        auditing.note(session, ctx, f"took the invitation of {found.email} back", ("portal", portal.id, portal.name))


def _portal(session: Session, portal_id: int) -> Portal:
    found = session.get(Portal, portal_id)
    if found is None:
        raise NotFound("there is no such portal", str(portal_id))
    return found


def _view(ctx: Context, awaited: AwaitedSignUp) -> InvitationView:
    return InvitationView(
        email=awaited.email,
        invited_by=awaited.invited_by or "",
        invited_at=awaited.invited_at or awaited.expires_at,
        expires_at=awaited.expires_at,
        over=awaited.expires_at <= ctx.now,
    )
