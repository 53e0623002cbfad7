"""The consumers' members: who signs in to the portal."""

from __future__ import annotations

from dataclasses import replace
from typing import cast

from sqlalchemy import ColumnElement, select, true
from sqlalchemy.orm import Session

from calm_tariff.core.membership import STAY
from calm_tariff.services.admit.portals.serving import PortalAsked
from calm_tariff.services.base.context import Actor
from calm_tariff.services.house.signing_in.realms import Realm, SignIn
from calm_tariff.store.admit.consumers import Consumer, Member
from calm_tariff.store.house.people import Account

OFFERED = 6
_ANYBODY = true()


def _by_email(session: Session, email: str) -> Member | None:
    return session.scalar(select(Member).where(Member.email == email))


def _by_id(session: Session, member_id: int) -> Member:
    return session.get_one(Member, member_id)


def _acting(account: Account) -> Actor:
    member = cast(Member, account)
    consumer = member.consumer
    return Actor(
        member.name,
        member_id=member.id,
        consumer_id=consumer.id,
        consumer=consumer.name,
        let_in=consumer.state in ("let in", "suspended", "closed"),
        membership=member.role,
        closed=consumer.state == "closed",
    )


def _belongs(account: Account) -> bool:
    """Whether a member can sign in: who has left cannot, nor most of those whose account is closed."""
    member = cast(Member, account)
    return member.left_at is None and (member.consumer.state != "closed" or member.role in STAY)


def _offered(session: Session, whose: ColumnElement[bool] = _ANYBODY) -> list[SignIn]:
    query = select(Member).join(Consumer, Consumer.id == Member.consumer_id).where(whose, Member.left_at.is_(None))
    found = session.scalars(query.order_by(Member.consumer_id, Member.id).limit(OFFERED))
    return [SignIn(m.email, m.name, f"{m.consumer.name}, {m.role}") for m in found]


MEMBERS = Realm(
    kind="member",
    by_email=_by_email,
    by_id=_by_id,
    acting=_acting,
    offered=_offered,
    reset_page="/reset",
    takes=lambda session, account: _belongs(account),
)


def who_enter(portal: PortalAsked) -> Realm:
    """The members who may sign in at a portal, each acting through it. Others are as if they were not there."""

    def takes(session: Session, account: Account) -> bool:
        return _belongs(account) and portal.serves(session, cast(Member, account).consumer_id)

    return replace(
        MEMBERS,
        at=portal.where,
        takes=takes,
        acting=lambda account: replace(_acting(account), portal_id=portal.id),
        offered=lambda session: _offered(session, portal.served()),
    )
