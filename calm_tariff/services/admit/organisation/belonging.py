"""Who belongs to an organisation, and as what: seen by all of its members, changed by its owners."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import membership
from calm_tariff.core.errors import NotFound
from calm_tariff.core.membership import ROLES, Belongs, Role
from calm_tariff.core.payment import Payment
from calm_tariff.core.sentences import role_in_words
from calm_tariff.services.admit import outside_sign_in, paying
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.house.signing_in import mail_addresses, passkeys, passwords, second_factor, sessions
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.consumers import Consumer, Member, MemberInvitation
from calm_tariff.store.base.locking import hold

PAGE = "/organisation"
# What lets somebody in: forgotten with them.
_GUARDS = (
    sessions.end_all,
    passwords.forget_letters,
    mail_addresses.forget_letters,
    second_factor.forget,
    passkeys.forget,
)


@dataclass(frozen=True, slots=True, kw_only=True)
class MemberView:
    """Somebody who belongs to the organisation, since when (some of the first: unknown), and whether it is who asks."""

    id: int
    name: str
    email: str
    role: Role
    joined_at: datetime | None
    this: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Invited:
    """Somebody who was invited and has not come yet; `over` where the letter is good no more."""

    id: int
    email: str
    role: Role
    invited_by: str
    invited_at: datetime
    expires_at: datetime
    over: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class RoleView:
    """A role, and what it may do, in words."""

    role: Role
    may: str


@dataclass(frozen=True, slots=True, kw_only=True)
class OrganisationView:
    """One's organisation: whose account it is, since when and until when, how its invoices are paid, so many days after
    each (None until somebody has said so), who belongs to it and, for its owners, who is invited."""

    name: str
    since: datetime
    closed_at: datetime | None
    role: Role
    payment: Payment | None
    payment_days: int
    members: list[MemberView]
    invited: list[Invited]
    roles: list[RoleView]


def organisation(ctx: Context) -> OrganisationView:
    """The signed-in member's organisation. Raises `NotSignedIn`, or `NotAllowed` where it is not let in."""
    owner = ctx.actor.own_consumer
    with ctx.reading() as session:
        consumer = session.get_one(Consumer, owner)
        invited: Sequence[MemberInvitation] = ()
        if ctx.actor.may("run the account"):
            query = select(MemberInvitation).where(MemberInvitation.consumer_id == owner)
            invited = session.scalars(query.order_by(MemberInvitation.id)).all()
        return OrganisationView(
            name=consumer.name,
            since=consumer.created_at,
            closed_at=consumer.closed_at,
            role=membership.role(ctx.actor.membership),
            payment=paying.of(consumer),
            payment_days=provider_of(session).payment_days,
            members=[
                MemberView(
                    id=m.id,
                    name=m.name,
                    email=m.email,
                    role=membership.role(m.role),
                    joined_at=m.joined_at,
                    this=m.id == ctx.actor.member_id,
                )
                for m in _members(session, owner)
            ],
            invited=[invited_view(ctx, each) for each in invited],
            roles=[RoleView(role=role, may=role_in_words(role)) for role in ROLES],
        )


def set_role(ctx: Context, member_id: int, to: Role) -> None:
    """Give one of its members another role; they are told. Raises `NotFound`, or `Conflict` where nobody would own the
    account."""
    with ctx.transaction() as session:
        everybody = _held(session, ctx)
        member = _one(everybody, member_id)
        membership.given(_belong(everybody), member_id, to)
        if member.role != to:
            _have_role(session, ctx, member, to)


def hand_over(ctx: Context, to: int) -> None:
    """Make another member the owner in one's own place, who is a developer then. Raises `NotFound` or `Invalid`."""
    with ctx.transaction() as session:
        everybody = _held(session, ctx)
        _one(everybody, to)
        for then in membership.handed_over(_belong(everybody), ctx.actor.member_id or 0, to):
            member = _one(everybody, then.member)
            if member.role != then.role:
                _have_role(session, ctx, member, then.role)


def remove(ctx: Context, member_id: int) -> None:
    """End that somebody belongs to the organisation: they cannot sign in any more. Raises `NotFound`, or `Conflict`
    where nobody would own the account."""
    with ctx.transaction() as session:
        _gone(session, ctx, _held(session, ctx), member_id)


def part_with(session: Session, ctx: Context, member: Member) -> None:
    """End that somebody belongs to their organisation, by the provider's word. Raises `Conflict` where nobody would own
    the account."""
    hold(session, Consumer, member.consumer_id)
    _gone(session, ctx, _members(session, member.consumer_id), member.id)


def leave(ctx: Context) -> None:
    """Leave one's organisation, and sign out for good. Raises `Conflict` where nobody would own the account."""
    owner = ctx.actor.own_consumer
    with ctx.transaction() as session:
        hold(session, Consumer, owner)
        _gone(session, ctx, _members(session, owner), ctx.actor.member_id or 0)


def invited_view(ctx: Context, of: MemberInvitation) -> Invited:
    """Somebody invited, as the organisation's owners see them."""
    return Invited(
        id=of.id,
        email=of.email,
        role=membership.role(of.role),
        invited_by=of.invited_by,
        invited_at=of.invited_at,
        expires_at=of.expires_at,
        over=of.expires_at <= ctx.now,
    )


def _held(session: Session, ctx: Context) -> list[Member]:
    """Everybody of the organisation that whoever acts owns, whom nobody else changes meanwhile."""
    owner = ctx.actor.consumer_to("run the account")
    hold(session, Consumer, owner)
    return _members(session, owner)


def _members(session: Session, consumer_id: int) -> list[Member]:
    query = select(Member).where(Member.consumer_id == consumer_id, Member.left_at.is_(None)).order_by(Member.id)
    return list(session.scalars(query.execution_options(populate_existing=True)))


def _one(everybody: Sequence[Member], member_id: int) -> Member:
    for each in everybody:
        if each.id == member_id:
            return each
    raise NotFound("nobody of this organisation is that", str(member_id))


def _belong(everybody: Sequence[Member]) -> list[Belongs]:
    return [Belongs(m.id, membership.role(m.role)) for m in everybody]


def _have_role(session: Session, ctx: Context, member: Member, role: Role) -> None:
    before, member.role = member.role, role
    subject = ("member", member.id, member.email)
    auditing.note(session, ctx, "changed a role", subject, before={"role": before}, after={"role": role})
    fields = {"organisation": member.consumer.name, "by": ctx.actor.name, "role": role, "may": role_in_words(role)}
    notify(session, ctx, members([member]), Notice(kind="role changed", fields=fields, page=PAGE))


def _gone(session: Session, ctx: Context, everybody: Sequence[Member], member_id: int) -> None:
    member = _one(everybody, member_id)
    membership.without(_belong(everybody), member_id)
    fields = {"organisation": member.consumer.name, "who": member.name, "by": ctx.actor.name}
    auditing.note(session, ctx, "ended that somebody belongs to it", ("member", member.id, member.email))
    for forget in _GUARDS:
        forget(session, MEMBERS, member.id)
    outside_sign_in.forget(session, member.id)
    member.left_at, member.email, member.password_hash = ctx.now, f"left {member.id}", ""
    session.flush()
    told = subscribers.members_who_may(session, member.consumer_id, "run the account")
    notify(session, ctx, members(told), Notice(kind="member left", fields=fields, page=PAGE))
