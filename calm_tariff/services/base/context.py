"""Who acts, when, and on which database: passed into every service function."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

from sqlalchemy import Engine
from sqlalchemy.exc import DBAPIError
from sqlalchemy.orm import Session, sessionmaker

from calm_tariff.core import house
from calm_tariff.core.errors import NotAllowed, NotSignedIn
from calm_tariff.core.membership import AFTER_CLOSING, MAY, Act
from calm_tariff.core.periods import instant_of, zone
from calm_tariff.core.reach import Reach
from calm_tariff.core.scopes import covers
from calm_tariff.services.base import retrying
from calm_tariff.store.base import recording
from calm_tariff.store.base.connecting import see_one_moment
from calm_tariff.store.base.provider import Provider
from calm_tariff.store.base.refusals import in_our_words

ROLES = house.ROLES


@dataclass(frozen=True, slots=True)
class Actor:
    """Who acts: a person or service token of the provider, with `roles` of the house, or a member of a consumer
    (`membership`, their role there), which may wait to be let in, or have closed its account. `portal_id` is the portal
    they came by. `stopped` says what a person must do before they have any role. A service token may be narrowed
    to `scopes` (core.scopes). `behind` is who it is by id, where one of the provider's people acts for a member.
    Who `looking` names sees what a member sees, and changes nothing."""

    name: str = "nobody"
    roles: frozenset[str] = frozenset()
    person_id: int | None = None
    member_id: int | None = None
    consumer_id: int | None = None
    consumer: str = ""
    token_id: int | None = None
    portal_id: int | None = None
    let_in: bool = True
    membership: str = ""
    closed: bool = False
    stopped: str = ""
    scopes: frozenset[str] = frozenset()
    behind: str = ""
    looking: str = ""

    @property
    def identity(self) -> str:
        """Who it is, by id and never by name: names can be alike."""
        if self.behind:
            return self.behind
        if self.member_id is not None:
            return f"member {self.member_id}"
        if self.token_id is not None:
            return f"token {self.token_id}"
        return f"person {self.person_id}" if self.person_id is not None else f"named {self.name}"

    def must_be(self, *roles: str) -> None:
        """Raise unless the actor has one of the roles of the provider's staff."""
        if self.stopped:
            raise NotAllowed(self.stopped)
        if not self.roles:
            raise NotSignedIn("sign in first")
        if not self.roles & set(roles):
            raise NotAllowed(f"this is for {' or '.join(roles)}; you are signed in as {self.in_words}")

    def must_cover(self, scope: str) -> None:
        """Raise where the actor is a service token whose scopes leave that one out."""
        if not covers(self.scopes, scope):
            raise NotAllowed(f"this needs the scope “{scope}”; the token has {', '.join(sorted(self.scopes))}")

    @property
    def in_words(self) -> str:
        """The roles of the house that the actor has."""
        return " and ".join(role for role in ROLES if role in self.roles)

    def consumer_to(self, act: Act) -> int:
        """The consumer for which the actor may do something (core.membership). Raises unless a member is signed in who
        may, of an organisation that is let in."""
        if self.consumer_id is None:
            raise NotSignedIn("sign in first")
        if not self.let_in:
            raise NotAllowed(f"{self.consumer} has not been let in yet")
        if self.closed and act not in AFTER_CLOSING:
            raise NotAllowed(f"the account of {self.consumer} is closed")
        if self.membership not in MAY[act]:
            allowed = " or ".join(sorted(MAY[act]))
            raise NotAllowed(f"this is for {allowed} of {self.consumer}; you belong to it as {self.membership}")
        return self.consumer_id

    def may(self, act: Act) -> bool:
        """Whether a member is signed in who may do something."""
        try:
            self.consumer_to(act)
        except (NotSignedIn, NotAllowed):
            return False
        return True

    @property
    def own_consumer(self) -> int:
        """The consumer whose use the actor may see. Raises as `consumer_to` does."""
        return self.consumer_to("see use")


SYSTEM = Actor(name="Calm Tariff")
NOBODY = Actor()


@dataclass(frozen=True, slots=True)
class Holding:
    """What is told of `cause` is held back until a moment, so that it can be undone before anybody hears of it."""

    cause: str
    until: datetime


@dataclass(frozen=True, slots=True)
class Context:
    """The surroundings of a service call. `now` and `token` are passed in so that tests are exact. `signing_secret`
    opens the keys that sign tokens; only who gives tokens has it. `sealing_secret` opens what back ends are asked
    with. `reach` is where the product itself may ask. `web_origins` are those of its own pages. `holding` holds notices
    back."""

    sessions: sessionmaker[Session]
    actor: Actor = NOBODY
    clock: Callable[[], datetime] = field(default=lambda: datetime.now(UTC))
    token: Callable[[], str] = field(default=lambda: secrets.token_urlsafe(32))
    web_address: str = "http://127.0.0.1:8400"
    web_origins: frozenset[str] = frozenset()
    gateway_address: str = "http://127.0.0.1:8401"
    signing_secret: str = ""
    sealing_secret: str = ""
    reach: Reach = Reach()
    session: Session | None = None
    holding: Holding | None = None

    def joining(self, session: Session) -> Context:
        """The same surroundings inside a transaction that is open already: what is done there is kept or
        lost together."""
        return replace(self, session=session)

    def acting(self, actor: Actor) -> Context:
        """The same surroundings for another actor."""
        return replace(self, actor=actor)

    def holding_back(self, holding: Holding) -> Context:
        """The same surroundings in which what is told is held back."""
        return replace(self, holding=holding)

    @property
    def now(self) -> datetime:
        """The present moment, in UTC."""
        return self.clock()

    @property
    def now_us(self) -> int:
        """The present instant in microseconds."""
        return instant_of(self.clock())

    @contextmanager
    def transaction(self) -> Iterator[Session]:
        """A session that is committed at the end and rolled back on an error; the open one when joining.

        What the database refuses is raised as an error of the domain; `Deadlocked` where nothing was done and the same
        may be tried again, as `retrying` does.
        """
        if self.session is not None:
            yield self.session
            self.session.flush()
            return
        with _in_our_words(), self.sessions() as session:
            with session.begin():
                yield session
                recording.write_down(session)
            retrying.committed(session)

    @contextmanager
    def reading(self) -> Iterator[Session]:
        """A session that sees the database as it is at one moment, however many statements ask and whatever is written
        meanwhile: figures that are shown side by side agree. It changes nothing; the open one when joining."""
        if self.session is not None:
            yield self.session
            return
        with _in_our_words(), self.sessions() as session, session.begin():
            see_one_moment(session)
            yield session
            recording.write_down(session)  # what would be put on the record is refused, not forgotten


@contextmanager
def _in_our_words() -> Iterator[None]:
    """What the database refuses, as an error of the domain."""
    try:
        yield
    except DBAPIError as error:
        refusal = in_our_words(error)
        if refusal is None:
            raise
        raise refusal from error


def context_for(engine: Engine, **options: object) -> Context:
    """A context on an engine."""
    return Context(sessionmaker(engine, expire_on_commit=False), **options)  # type: ignore[arg-type]


def provider_of(session: Session) -> Provider:
    """The provider whose installation this is."""
    return session.query(Provider).one()


def zone_of(session: Session) -> ZoneInfo:
    """The provider's time zone, in which days and periods are counted."""
    return zone(provider_of(session).time_zone)
