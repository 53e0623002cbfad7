"""The provider's people: who signs in to the console."""

from __future__ import annotations

from dataclasses import dataclass
from typing import cast

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.services.base.context import ROLES, Actor, Context
from calm_tariff.services.house.realms import Realm, SignIn
from calm_tariff.store.house.people import Account, Person


def _by_email(session: Session, email: str) -> Person | None:
    return session.scalar(select(Person).where(Person.email == email))


def _by_id(session: Session, person_id: int) -> Person:
    return session.get_one(Person, person_id)


def _acting(account: Account) -> Actor:
    person = cast(Person, account)
    return Actor(person.name, person.role, person_id=person.id)


def _offered(session: Session) -> list[SignIn]:
    return [SignIn(p.email, p.name, p.role) for p in session.scalars(select(Person).order_by(Person.id))]


@dataclass(frozen=True, slots=True, kw_only=True)
class Colleague:
    """One of the provider's people; `me`: whoever asks."""

    id: int
    name: str
    role: str
    me: bool


def colleagues(ctx: Context) -> list[Colleague]:
    """The provider's people, by name."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        found = session.scalars(select(Person).order_by(Person.name, Person.id))
        return [Colleague(id=p.id, name=p.name, role=p.role, me=p.id == ctx.actor.person_id) for p in found]


PEOPLE = Realm(kind="person", by_email=_by_email, by_id=_by_id, acting=_acting, offered=_offered, reset_page="/reset")


def people() -> Realm:
    """The provider's people, whatever is asked."""
    return PEOPLE
