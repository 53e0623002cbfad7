"""The consumers' members: who signs in to the portal."""

from __future__ import annotations

from typing import cast

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.services.base.context import Actor
from calm_tariff.services.house.sessions import Realm, SignIn
from calm_tariff.store.admit.consumers import Member
from calm_tariff.store.house.people import Account

OFFERED = 6


def _by_email(session: Session, email: str) -> Member | None:
    return session.scalar(select(Member).where(Member.email == email))


def _by_id(session: Session, member_id: int) -> Member:
    return session.get_one(Member, member_id)


def _acting(account: Account) -> Actor:
    member = cast(Member, account)
    return Actor(member.name, "", member_id=member.id, consumer_id=member.consumer_id, consumer=member.consumer.name)


def _offered(session: Session) -> list[SignIn]:
    query = select(Member).order_by(Member.id).limit(OFFERED)
    return [SignIn(m.email, m.name, m.consumer.name) for m in session.scalars(query)]


MEMBERS = Realm(
    kind="member", by_email=_by_email, by_id=_by_id, acting=_acting, offered=_offered, reset_page="/portal/reset"
)
