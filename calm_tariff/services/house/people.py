"""The provider's people: who signs in to the console, with which roles, and until when."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import cast

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core import house
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.house import OWNER, Employed, HouseRole
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Actor, Context, provider_of
from calm_tariff.services.base.notices import Notice, notify
from calm_tariff.services.house.signing_in import mail_addresses, passwords, second_factor, sessions
from calm_tariff.services.house.signing_in.realms import Realm, SignIn
from calm_tariff.services.house.signing_in.sessions import SessionView
from calm_tariff.store.base.locking import all_locked
from calm_tariff.store.house.people import Account, Passkey, Person, SecondFactor, SignedIn

PAGE = "/house/people"


def _by_email(session: Session, email: str) -> Person | None:
    return session.scalar(select(Person).where(Person.email == email))


def _by_id(session: Session, person_id: int) -> Person:
    return session.get_one(Person, person_id)


def _acting(account: Account) -> Actor:
    person = cast(Person, account)
    return Actor(person.name, frozenset(person.roles), person_id=person.id)


def _takes(session: Session, account: Account) -> bool:
    return cast(Person, account).deactivated_at is None


def _offered(session: Session) -> list[SignIn]:
    active = select(Person).where(Person.deactivated_at.is_(None)).order_by(Person.id)
    return [SignIn(p.email, p.name, " and ".join(p.roles)) for p in session.scalars(active)]


def _needs_factor(session: Session) -> bool:
    return provider_of(session).factor_required


PEOPLE = Realm(
    kind="person",
    by_email=_by_email,
    by_id=_by_id,
    acting=_acting,
    offered=_offered,
    reset_page="/reset",
    takes=_takes,
    needs_factor=_needs_factor,
)


def people() -> Realm:
    """The provider's people, whatever is asked."""
    return PEOPLE


@dataclass(frozen=True, slots=True, kw_only=True)
class Colleague:
    """One of the provider's people who can sign in; `me`: whoever asks."""

    id: int
    name: str
    roles: list[HouseRole]
    me: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class PersonView:
    """One of the provider's people, as an owner of the house sees them. `state`: active, deactivated. `sessions` are
    those that have not ended, of which one was last used at `seen_at`, to the minute."""

    id: int
    name: str
    email: str
    roles: list[HouseRole]
    me: bool
    state: str
    joined_at: datetime | None
    deactivated_at: datetime | None
    factor: bool
    passkeys: int
    sessions: int
    seen_at: datetime | None


def colleagues(ctx: Context) -> list[Colleague]:
    """The provider's people who can sign in, by name."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        active = select(Person).where(Person.deactivated_at.is_(None)).order_by(Person.name, Person.id)
        return [
            Colleague(id=p.id, name=p.name, roles=p.roles, me=p.id == ctx.actor.person_id)
            for p in session.scalars(active)
        ]


def everybody(ctx: Context) -> list[PersonView]:
    """The provider's people, also those who were deactivated, last; for an owner of the house."""
    ctx.actor.must_be(OWNER)
    with ctx.reading() as session:
        found = session.scalars(
            select(Person).order_by(Person.deactivated_at.isnot(None), Person.name, Person.id)
        ).all()
        return _views(session, ctx, found)


def set_roles(ctx: Context, person_id: int, roles: Sequence[str]) -> PersonView:
    """Let one of the provider's people have other roles, from their next question on; they are told. Raises `NotFound`,
    `Invalid`, naming the field, or `Conflict` where nobody would own the house."""
    ctx.actor.must_be(OWNER)
    wanted = list(house.roles_of(roles))
    with ctx.transaction() as session:
        person, all_of = _one_of_all(session, person_id)
        house.with_roles(all_of, person_id, wanted)
        before = person.roles
        if before != wanted:
            person.roles = wanted
            _noted(session, ctx, person, "gave somebody other roles", before=before, after=wanted)
            _tell(session, ctx, person, f"You are now {' and '.join(wanted)}; before, {' and '.join(before)}.")
        return _view(session, ctx, person)


def deactivate(ctx: Context, person_id: int) -> PersonView:
    """Let one of the provider's people sign in no more: sessions, tokens and letters of theirs end at once. Raises
    `NotFound`, or `Conflict` where nobody would own the house."""
    ctx.actor.must_be(OWNER)
    with ctx.transaction() as session:
        person, all_of = _one_of_all(session, person_id)
        if person.deactivated_at is None:
            house.without(all_of, person_id)
            person.deactivated_at = ctx.now
            sessions.end_all(session, PEOPLE, person_id)
            passwords.forget_letters(session, PEOPLE, person_id)
            mail_addresses.forget_letters(session, PEOPLE, person_id)
            _noted(session, ctx, person, "deactivated somebody", before=person.roles)
            _tell(session, ctx, person, "You can sign in no more; your service tokens ended as well.")
        return _view(session, ctx, person)


def let_in_again(ctx: Context, person_id: int) -> PersonView:
    """Let somebody who was deactivated sign in again, as what they were. Raises `NotFound`."""
    ctx.actor.must_be(OWNER)
    with ctx.transaction() as session:
        person, _ = _one_of_all(session, person_id)
        if person.deactivated_at is not None:
            person.deactivated_at = None
            _noted(session, ctx, person, "let somebody in again", after=person.roles)
            _tell(session, ctx, person, f"You can sign in again, as {' and '.join(person.roles)}.")
        return _view(session, ctx, person)


def sessions_of(ctx: Context, person_id: int) -> list[SessionView]:
    """Where one of the provider's people is signed in. Raises `NotFound`."""
    ctx.actor.must_be(OWNER)
    with ctx.reading() as session:
        if session.get(Person, person_id) is None:
            raise NotFound("there is no such person", str(person_id))
        return sessions.those_of(session, ctx, PEOPLE, person_id)


def end_sessions(ctx: Context, person_id: int) -> PersonView:
    """End all sessions of one of the provider's people. Raises `NotFound`."""
    ctx.actor.must_be(OWNER)
    with ctx.transaction() as session:
        person, _ = _one_of_all(session, person_id)
        sessions.end_all(session, PEOPLE, person_id)
        _noted(session, ctx, person, "ended somebody's sessions")
        return _view(session, ctx, person)


def take_factor(ctx: Context, person_id: int) -> PersonView:
    """Turn off the second factor of one of the provider's people who has lost it; their sessions end, and they are
    told. Raises `NotFound`, or `Conflict` where they have none, or it is one's own."""
    ctx.actor.must_be(OWNER)
    with ctx.transaction() as session:
        person, _ = _one_of_all(session, person_id)
        if person_id == ctx.actor.person_id:
            raise Conflict("is your own: turn it off with a code, under Your sign-in", "second factor")
        if not second_factor.is_on(session, PEOPLE, person_id):
            raise Conflict("there is none", "second factor")
        second_factor.forget(session, PEOPLE, person_id)
        sessions.end_all(session, PEOPLE, person_id)
        _noted(session, ctx, person, "turned somebody's second factor off")
        notify(session, ctx, [PEOPLE.recipient(person)], Notice(kind="sign-in changed", fields={"what": "factor off"}))
        return _view(session, ctx, person)


def factor_required(ctx: Context) -> bool:
    """Whether everybody must have a second factor."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return provider_of(session).factor_required


def require_factor(ctx: Context, required: bool) -> None:
    """Have everybody of the provider's show a second factor, or no more: whoever has none sets one up before they do
    anything else. Raises `Conflict` where whoever asks for it has none."""
    ctx.actor.must_be(OWNER)
    with ctx.transaction() as session:
        mine = ctx.actor.person_id
        if required and mine is not None and not second_factor.is_on(session, PEOPLE, mine):
            raise Conflict("you have none yourself: turn one on first, under Your sign-in", "second factor")
        provider = provider_of(session)
        if provider.factor_required != required:
            provider.factor_required = required
            words = "asked for a second factor of everybody" if required else "left the second factor to everybody"
            auditing.note(session, ctx, words, ("provider", provider.id, provider.name))


def owners(session: Session) -> list[Person]:
    """Who owns the house and can sign in."""
    active = session.scalars(select(Person).where(Person.deactivated_at.is_(None)).order_by(Person.id))
    return [person for person in active if OWNER in person.roles]


def _one_of_all(session: Session, person_id: int) -> tuple[Person, list[Employed]]:
    """One of the provider's people, and all of them, held."""
    found = held(session)
    person = next((p for p in found if p.id == person_id), None)
    if person is None:
        raise NotFound("there is no such person", str(person_id))
    return person, employed(found)


def held(session: Session) -> list[Person]:
    """The provider's people, held: what they may do is changed with all of them in view."""
    return all_locked(session, Person, session.scalars(select(Person.id)).all())


def employed(found: Sequence[Person]) -> list[Employed]:
    """The provider's people as the rules of the house see them."""
    return [Employed(person=p.id, roles=frozenset(p.roles), active=p.deactivated_at is None) for p in found]


def _noted(
    session: Session,
    ctx: Context,
    person: Person,
    words: str,
    before: Sequence[str] | None = None,
    after: Sequence[str] | None = None,
) -> None:
    auditing.note(
        session,
        ctx,
        words,
        ("person", person.id, person.email),
        before=None if before is None else {"roles": list(before)},
        after=None if after is None else {"roles": list(after)},
    )


def _tell(session: Session, ctx: Context, person: Person, said: str) -> None:
    notice = Notice(kind="colleague changed", fields={"said": said, "by": ctx.actor.name})
    notify(session, ctx, [PEOPLE.recipient(person)], notice)


def _view(session: Session, ctx: Context, person: Person) -> PersonView:
    session.flush()
    return _views(session, ctx, [person])[0]


def _views(session: Session, ctx: Context, found: Sequence[Person]) -> list[PersonView]:
    ids = [p.id for p in found]
    on = SecondFactor.confirmed_at.isnot(None) & SecondFactor.person_id.in_(ids)
    factors = set(session.scalars(select(SecondFactor.person_id).where(on)))
    keyed = select(Passkey.person_id, func.count()).where(Passkey.person_id.in_(ids)).group_by(Passkey.person_id)
    passkeys = {person: n for person, n in session.execute(keyed)}  # noqa: C416
    open_now = sessions.alive(ctx) & SignedIn.person_id.in_(ids)
    counted = select(SignedIn.person_id, func.count(), func.max(SignedIn.seen_at)).where(open_now)
    seen = {person: (n, at) for person, n, at in session.execute(counted.group_by(SignedIn.person_id))}
    return [
        PersonView(
            id=p.id,
            name=p.name,
            email=p.email,
            roles=p.roles,
            me=p.id == ctx.actor.person_id,
            state="active" if p.deactivated_at is None else "deactivated",
            joined_at=p.joined_at,
            deactivated_at=p.deactivated_at,
            factor=p.id in factors,
            passkeys=passkeys.get(p.id, 0),
            sessions=seen.get(p.id, (0, None))[0],
            seen_at=seen.get(p.id, (0, None))[1],
        )
        for p in found
    ]
