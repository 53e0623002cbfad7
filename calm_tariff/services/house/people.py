"""The provider's people: who signs in to the console."""

from __future__ import annotations

from typing import cast

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.services.base.context import Actor
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


PEOPLE = Realm(kind="person", by_email=_by_email, by_id=_by_id, acting=_acting, offered=_offered, reset_page="/reset")


def people() -> Realm:
    """The provider's people, whatever is asked."""
    return PEOPLE
