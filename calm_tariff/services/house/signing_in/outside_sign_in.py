"""The provider's people signing in through the house's outside provider of identities.

Whom it names is the person it named before; or, the first time, the one with the mail address that it has verified, who
is told by letter. Where a claim of it gives roles, they are taken over at each sign-in, and somebody who is not known
yet comes in with them. A second factor that is on is asked for here as ever.
"""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import house, names
from calm_tariff.core.errors import Conflict, Invalid, NotAllowed
from calm_tariff.core.house import OWNER, HouseRole
from calm_tariff.formats import openid
from calm_tariff.formats.openid import Identity
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.notices import Notice, notify
from calm_tariff.services.base.secrets import NO_PASSWORD
from calm_tariff.services.house import people
from calm_tariff.services.house.people import PAGE, PEOPLE
from calm_tariff.services.house.signing_in import identity_provider, outside, proof, second_factor, sessions, throttling
from calm_tariff.services.house.signing_in.outside import Begun
from calm_tariff.store.house.identities import HouseIdentityProvider, OutsideSignIn, PersonIdentity
from calm_tariff.store.house.people import Person


def begin(ctx: Context, address: str = "") -> Begun:
    """Begin a sign-in. Raises `NotFound` where the house has no provider, or `TooMany`."""
    throttling.begun(ctx, "provider", address)
    with ctx.transaction() as session:
        return outside.begin(session, ctx, identity_provider.client(session, ctx))


def waiting(ctx: Context, state: str) -> Begun:
    """The sign-in that a state belongs to, whose answer has not come; it is good for one answer. Raises `NotFound`."""
    with ctx.transaction() as session:
        return outside.waiting(session, ctx, identity_provider.client(session, ctx), state)


def answered(ctx: Context, state: str, who: Identity, address: str = "") -> str:
    """Take whom the provider names; returns a session's token. Raises `NotFound`, `NotAllowed` where they do not work
    here, or `NotSignedIn` with `code` as its place where a second factor is to be shown (see `go_on`)."""
    with ctx.transaction() as session:
        found = outside.on_the_way(session, ctx, state)
        outside.came_back(found, who)
        kept = session.get(HouseIdentityProvider, identity_provider.ONLY)
        found.claimed = openid.values_of(who.claims, kept.role_claim) if kept else []
    return go_on(ctx, state, "", address)


def go_on(ctx: Context, state: str, code: str, address: str = "") -> str:
    """Sign in whom the provider named, with a code of their second factor where they have one. Raises as `answered`."""
    with ctx.transaction() as session:
        found = outside.named(session, ctx, state)
        throttled = f"person {found.email or found.subject}"
    throttling.attempt(ctx, throttled, address, where="code")
    with ctx.transaction() as session:
        found = outside.named(session, ctx, state)
        kept = session.get(HouseIdentityProvider, identity_provider.ONLY)
        if kept is None or kept.issuer != found.issuer:
            raise outside.over()
        roles = house.claimed(found.claimed, kept.roles_by)
        if kept.role_claim and not roles:
            raise NotAllowed(f"{kept.name} gives you no role here; ask whoever runs it")
        person = _known(session, found)
        if person is not None and not PEOPLE.takes(session, person):
            raise NotAllowed("whoever has this account was deactivated")
        if person is None and not (kept.role_claim and found.email):
            raise NotAllowed("nobody who works here has this address; ask an owner of the house to invite you")
        if person is None:
            person = _made(session, ctx, found, roles, kept.name)
        else:
            everybody = people.held(session) if kept.role_claim else []
            second_factor.must_be_shown(session, ctx, PEOPLE, person, code)
            if kept.role_claim:
                _take_over(session, ctx, person, everybody, roles, kept.name)
        _link(session, ctx, found, person, kept.name)
        why = f"through {kept.name} from {address}" if address else f"through {kept.name}"
        who = ctx.acting(PEOPLE.acting(person))
        auditing.note(session, who, "signed in", ("person", person.id, person.email), why=why)
        token = sessions.begin(session, ctx, PEOPLE, person.id, outside=True)
        session.delete(found)
    throttling.forgive(ctx, throttled, address)
    return token


def _known(session: Session, of: OutsideSignIn) -> Person | None:
    """The person whom the provider named before, or who has the mail address that it has verified."""
    linked = outside.identity(session, PersonIdentity, of)
    if linked is not None:
        return session.get(Person, linked.person_id)
    return session.scalar(select(Person).where(Person.email == of.email)) if of.email else None


def _made(session: Session, ctx: Context, of: OutsideSignIn, roles: Sequence[HouseRole], provider: str) -> Person:
    """Somebody who comes in by the provider's word."""
    told = people.owners(session)
    person = Person(email=of.email, name=_name(of), roles=list(roles), password_hash=NO_PASSWORD, joined_at=ctx.now)
    session.add(person)
    session.flush()
    who = ctx.acting(PEOPLE.acting(person))
    subject = ("person", person.id, person.email)
    auditing.note(session, who, f"came in through {provider}", subject, after={"roles": person.roles})
    fields = {"who": person.name, "by": provider, "roles": " and ".join(person.roles)}
    notice = Notice(kind="colleague joined", fields=fields, page=PAGE)
    notify(session, ctx, [PEOPLE.recipient(owner) for owner in told], notice)
    return person


def _name(of: OutsideSignIn) -> str:
    """What the provider calls somebody; their address, where that is no name that may be shown."""
    try:
        return names.plain(" ".join(of.name.split()), "name")
    except Invalid:
        return of.email


def _take_over(
    session: Session,
    ctx: Context,
    person: Person,
    everybody: Sequence[Person],
    roles: Sequence[HouseRole],
    provider: str,
) -> None:
    """Let somebody have the roles that the provider's word gives; the last owner stays one."""
    wanted = set(roles)
    try:
        house.with_roles(people.employed(everybody), person.id, roles)
    except Conflict:
        wanted.add(OWNER)
    then = list(house.roles_of(wanted))
    if then != person.roles:
        subject = ("person", person.id, person.email)
        before, after = {"roles": person.roles}, {"roles": then}
        auditing.note(session, ctx, f"took over roles from {provider}", subject, before=before, after=after)
        person.roles = then


def _link(session: Session, ctx: Context, of: OutsideSignIn, person: Person, provider: str) -> None:
    if outside.identity(session, PersonIdentity, of) is not None:
        return
    session.add(
        PersonIdentity(person_id=person.id, provider=provider, issuer=of.issuer, subject=of.subject, linked_at=ctx.now)
    )
    session.flush()
    proof.changed(session, ctx, PEOPLE, person, "outside sign-in")
