"""Looking at a portal as a consumer does: what its owner sees, for one of the provider's people, who can change nothing
by it. That somebody did is on the record."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import timedelta

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.portals import serving
from calm_tariff.services.admit.portals.serving import PortalAsked
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Actor, Context
from calm_tariff.services.base.secrets import hash_token
from calm_tariff.store.admit.consumers import Consumer, Member
from calm_tariff.store.admit.looking import LookedAs
from calm_tariff.store.base.locking import locked
from calm_tariff.store.house.people import Person

LOOKERS = ("product manager", "reviewer", "operations", "finance")
# So long after it was asked for one can begin, and so long it lasts then.
BEGINS, LASTS = timedelta(minutes=2), timedelta(hours=1)


@dataclass(frozen=True, slots=True)
class Door:
    """Where looking begins: an address that is good once."""

    address: str


def ask(ctx: Context, consumer_id: int) -> Door:
    """Have it begin. Raises `NotFound`, or `Conflict` for a service token, and where there is nobody whose portal
    it would be."""
    ctx.actor.must_be(*LOOKERS)
    if ctx.actor.person_id is None:
        raise Conflict("is for people; a service token has no eyes", "looking")
    with ctx.transaction() as session:
        consumer = session.get(Consumer, consumer_id)
        if consumer is None:
            raise NotFound("there is no such consumer", str(consumer_id))
        if _owner(session, consumer_id) is None:
            raise Conflict("nobody signs in for it", consumer.name)
        token = ctx.token()
        made = LookedAs(token_hash=hash_token(token), person_id=ctx.actor.person_id, consumer_id=consumer_id)
        made.expires_at = ctx.now + BEGINS
        session.execute(delete(LookedAs).where(LookedAs.expires_at <= ctx.now))
        session.add(made)
        return Door(f"{serving.address(ctx, consumer.portal)}/looking#{token}")


def begin(ctx: Context, portal: PortalAsked, token: str) -> str:
    """Begin by the token of an address that is good once; returns the token to look with. Raises `NotFound`."""
    with ctx.transaction() as session:
        found = locked(session, LookedAs, hash_token(token))
        good = found is not None and found.opened_at is None and found.expires_at > ctx.now
        if found is None or not good or not portal.serves(session, found.consumer_id):
            raise NotFound("this address was good once, and for two minutes: ask for another", "token")
        person, consumer = session.get_one(Person, found.person_id), session.get_one(Consumer, found.consumer_id)
        again = ctx.token()
        made = LookedAs(token_hash=hash_token(again), person_id=person.id, consumer_id=consumer.id, opened_at=ctx.now)
        made.expires_at = ctx.now + LASTS
        session.delete(found)
        session.add(made)
        acting = ctx.acting(Actor(person.name, person_id=person.id))
        subject = ("consumer", consumer.id, consumer.name)
        auditing.note(session, acting, "looked at the portal as a consumer does", subject)
        return again


def who(ctx: Context, portal: PortalAsked, token: str) -> Actor | None:
    """Who looks with a token, as the consumer's owner acts; None where it is no more good here."""
    with ctx.transaction() as session:
        found = session.get(LookedAs, hash_token(token))
        if found is None or found.opened_at is None or found.expires_at <= ctx.now:
            return None
        person, owner = session.get_one(Person, found.person_id), _owner(session, found.consumer_id)
        gone = owner is None or person.deactivated_at is not None or not set(person.roles) & set(LOOKERS)
        if owner is None or gone or not portal.serves(session, found.consumer_id):
            return None
        acting = replace(MEMBERS.acting(owner), portal_id=portal.id)
        return replace(acting, behind=f"person {person.id}", looking=person.name)


def end(ctx: Context, token: str) -> None:
    """Look no more. Ending what has ended is no error."""
    with ctx.transaction() as session:
        session.execute(delete(LookedAs).where(LookedAs.token_hash == hash_token(token)))


def _owner(session: Session, consumer_id: int) -> Member | None:
    query = select(Member).where(Member.consumer_id == consumer_id, Member.role == "owner", Member.left_at.is_(None))
    return session.scalars(query.order_by(Member.id).limit(1)).first()
