"""Service tokens: with one, a script does what its owner may do, until a day, or until it is revoked."""

from __future__ import annotations

import logging
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core import house, names
from calm_tariff.core.errors import Invalid, NotAllowed, NotFound, NotSignedIn
from calm_tariff.core.events import Thing
from calm_tariff.core.house import OWNER, HouseRole
from calm_tariff.core.scopes import scopes_of
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Actor, Context
from calm_tariff.services.base.secrets import hash_token
from calm_tariff.services.house import secret_places
from calm_tariff.store.base.locking import locked
from calm_tariff.store.house.service_tokens import ServiceToken, ServiceTokenPlace

log = logging.getLogger("calm_tariff.sign_in")
DAYS = 90
MOST_DAYS = 366
# How exactly it is kept when a token was last used; more would be a change for every request.
NOTICED = timedelta(minutes=1)
_MACHINE = "whoever runs this machine"


@dataclass(frozen=True, slots=True, kw_only=True)
class ServiceTokenTyped:
    """A token to make: what it is for, with which of one's own roles (all, where none is named), for how many days, and
    narrowed to which scopes (core.scopes), if any."""

    label: str
    roles: tuple[str, ...] = ()
    scopes: tuple[str, ...] = ()
    days: int = DAYS


@dataclass(frozen=True, slots=True, kw_only=True)
class ServiceTokenView:
    """A service token as its owner sees it: it does what these `roles` may, and of that what `scopes` name, where they
    name anything. `state`: active, expired, revoked. `used_at` is kept to the minute."""

    id: int
    label: str
    roles: list[HouseRole]
    scopes: list[str]
    owner: str
    state: str
    created_at: datetime
    expires_at: datetime
    revoked_at: datetime | None
    used_at: datetime | None
    used_from: str
    places: int
    mine: bool


def everything(ctx: Context) -> list[ServiceTokenView]:
    """One's own tokens, newest first; an owner of the house sees everybody's."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        query = select(ServiceToken).order_by(ServiceToken.id.desc())
        if OWNER not in ctx.actor.roles:
            query = query.where(ServiceToken.owner_id == (ctx.actor.person_id or 0))
        found = session.scalars(query).all()
        counted = select(ServiceTokenPlace.secret_id, func.count()).group_by(ServiceTokenPlace.secret_id)
        places: dict[int, int] = {of: n for of, n in session.execute(counted)}  # noqa: C416
        return [_view(ctx, token, places.get(token.id, 0)) for token in found]


def make(ctx: Context, wanted: ServiceTokenTyped) -> str:
    """A token with roles of one's own, narrowed to scopes where any are named, good for so many days; shown this once.
    Raises `NotAllowed`, or `Invalid`, naming the field."""
    ctx.actor.must_be(*ROLES)
    if ctx.actor.person_id is None:
        raise NotAllowed("only somebody who is signed in makes a service token; a script cannot")
    roles = house.roles_of(wanted.roles or ctx.actor.roles)
    beyond = [role for role in roles if role not in ctx.actor.roles]
    if beyond:
        raise Invalid(f"you are no {beyond[0]} yourself", "roles")
    return _made(ctx, wanted, roles)


def make_for_machine(ctx: Context, label: str, *roles: str, days: int = DAYS, scopes: Sequence[str] = ()) -> str:
    """A token for whoever runs this machine and could do anything anyway. Raises `Invalid`, naming the field."""
    return _made(ctx, ServiceTokenTyped(label=label, days=days, scopes=tuple(scopes)), house.roles_of(roles))


def revoke(ctx: Context, token_id: int) -> ServiceTokenView:
    """Make a token invalid at once: one's own, or any by an owner of the house. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        found = locked(session, ServiceToken, token_id)
        if found is None or not (OWNER in ctx.actor.roles or _own(ctx, found)):
            raise NotFound("there is no such service token", str(token_id))
        if found.revoked_at is None:
            found.revoked_at = ctx.now
            auditing.note(session, ctx, "revoked a service token", ("service token", found.id, found.label))
        return _view(ctx, found, 0)


def who_by(ctx: Context, token: str, address: str = "") -> Actor:
    """Who a script acts as: with those of the token's roles that its owner still has. Raises `NotSignedIn` for a token
    that is unknown, revoked or expired, or whose owner has none of them now or cannot sign in any more."""
    with ctx.transaction() as session:
        found = session.scalar(select(ServiceToken).where(ServiceToken.token_hash == hash_token(token)))
        wrong = _wrong(ctx, found)
        if wrong or found is None:
            log.warning("a service token from %s was turned away: %s", address or "an unknown address", wrong)
            raise NotSignedIn(f"the service token {wrong}")
        who = _acting(found)
        address = address[: secret_places.LONGEST]
        if found.used_at is None or found.used_from != address or ctx.now - found.used_at >= NOTICED:
            found.used_at, found.used_from = ctx.now, address
            subject = Thing("service token", found.id, found.label)
            secret_places.note(session, ctx.acting(who), ServiceTokenPlace, subject, address)
        return who


def who_still(session: Session, ctx: Context, token_id: int) -> Actor | None:
    """Who acts on where a token asked for something that is done later; None where the token is good no more."""
    found = session.get(ServiceToken, token_id)
    return None if found is None or _wrong(ctx, found) else _acting(found)


def _acting(found: ServiceToken) -> Actor:
    roles, scopes = frozenset(_roles_now(found)), frozenset(found.scopes)
    return Actor(f"token {found.label}", roles, token_id=found.id, scopes=scopes)


def _wrong(ctx: Context, found: ServiceToken | None) -> str:
    if found is None:
        return "is unknown"
    if found.revoked_at:
        return "was revoked"
    if found.expires_at <= ctx.now:
        return "has expired"
    if found.owner is not None and found.owner.deactivated_at is not None:
        return "can do no more than its owner, who was deactivated"
    if not _roles_now(found):
        return f"can do no more than its owner, who is no {' or '.join(found.roles)} now"
    return ""


def _roles_now(token: ServiceToken) -> list[HouseRole]:
    return [role for role in token.roles if token.owner is None or role in token.owner.roles]


def _made(ctx: Context, wanted: ServiceTokenTyped, roles: Sequence[HouseRole]) -> str:
    label, scopes, days = names.plain(wanted.label, "label", 200), list(scopes_of(wanted.scopes)), wanted.days
    if not 1 <= days <= MOST_DAYS:
        raise Invalid(f"must be 1 to {MOST_DAYS} days", "days")
    token = f"cts_{ctx.token()}"
    with ctx.transaction() as session:
        made = ServiceToken(
            label=label,
            roles=list(roles),
            scopes=scopes,
            token_hash=hash_token(token),
            owner_id=ctx.actor.person_id,
            created_at=ctx.now,
            expires_at=ctx.now + timedelta(days=days),
        )
        session.add(made)
        session.flush()
        after = {"roles": list(roles), "scopes": scopes, "expires_at": made.expires_at.isoformat()}
        auditing.note(session, ctx, "made a service token", ("service token", made.id, label), after=after)
    return token


def _own(ctx: Context, token: ServiceToken) -> bool:
    return ctx.actor.person_id is not None and token.owner_id == ctx.actor.person_id


def _view(ctx: Context, t: ServiceToken, places: int) -> ServiceTokenView:
    state = "revoked" if t.revoked_at else "expired" if t.expires_at <= ctx.now else "active"
    return ServiceTokenView(
        id=t.id,
        label=t.label,
        roles=t.roles,
        scopes=t.scopes,
        owner=t.owner.name if t.owner else _MACHINE,
        state=state,
        created_at=t.created_at,
        expires_at=t.expires_at,
        revoked_at=t.revoked_at,
        used_at=t.used_at,
        used_from=t.used_from,
        places=places,
        mine=_own(ctx, t),
    )
