"""Service tokens: with one, a script does what its owner may do, until a day, or until it is revoked."""

from __future__ import annotations

import logging
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import func, select

from calm_tariff.core import names
from calm_tariff.core.errors import Invalid, NotAllowed, NotFound, NotSignedIn
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
class ServiceTokenView:
    """A service token as its owner sees it. `state`: active, expired, revoked. `used_at` is kept to the minute."""

    id: int
    label: str
    role: str
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
    """One's own tokens, newest first; a product manager sees everybody's."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        query = select(ServiceToken).order_by(ServiceToken.id.desc())
        if ctx.actor.role != "product manager":
            query = query.where(ServiceToken.owner_id == (ctx.actor.person_id or 0))
        found = session.scalars(query).all()
        counted = select(ServiceTokenPlace.secret_id, func.count()).group_by(ServiceTokenPlace.secret_id)
        places: dict[int, int] = {of: n for of, n in session.execute(counted)}  # noqa: C416
        return [_view(ctx, token, places.get(token.id, 0)) for token in found]


def make(ctx: Context, label: str, days: int = DAYS) -> str:
    """A token with one's own role, good for so many days; shown this once. Raises `NotAllowed` or `Invalid`."""
    ctx.actor.must_be(*ROLES)
    if ctx.actor.person_id is None:
        raise NotAllowed("only somebody who is signed in makes a service token; a script cannot")
    return _made(ctx, label, ctx.actor.role, days)


def make_for_machine(ctx: Context, label: str, role: str, days: int = DAYS) -> str:
    """A token for whoever runs this machine and could do anything anyway. Raises `Invalid`, naming the field."""
    if role not in ROLES:
        raise Invalid(f"must be one of {', '.join(ROLES)}", "role")
    return _made(ctx, label, role, days)


def revoke(ctx: Context, token_id: int) -> ServiceTokenView:
    """Make a token invalid at once: one's own, or any by a product manager. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        found = locked(session, ServiceToken, token_id)
        if found is None or not (ctx.actor.role == "product manager" or _own(ctx, found)):
            raise NotFound("there is no such service token", str(token_id))
        if found.revoked_at is None:
            found.revoked_at = ctx.now
            auditing.note(session, ctx, "revoked a service token", ("service token", found.id, found.label))
        return _view(ctx, found, 0)


def who_by(ctx: Context, token: str, address: str = "") -> Actor:
    """Who a script acts as. Raises `NotSignedIn` for a token that is unknown, revoked or expired, or whose owner has
    another role now."""
    with ctx.transaction() as session:
        found = session.scalar(select(ServiceToken).where(ServiceToken.token_hash == hash_token(token)))
        wrong = _wrong(ctx, found)
        if wrong or found is None:
            log.warning("a service token from %s was turned away: %s", address or "an unknown address", wrong)
            raise NotSignedIn(f"the service token {wrong}")
        who = Actor(f"token {found.label}", found.role, token_id=found.id)
        address = address[: secret_places.LONGEST]
        if found.used_at is None or found.used_from != address or ctx.now - found.used_at >= NOTICED:
            found.used_at, found.used_from = ctx.now, address
            subject = ("service token", found.id, found.label)
            secret_places.note(session, ctx.acting(who), ServiceTokenPlace, subject, address)
        return who


def _wrong(ctx: Context, found: ServiceToken | None) -> str:
    if found is None:
        return "is unknown"
    if found.revoked_at:
        return "was revoked"
    if found.expires_at <= ctx.now:
        return "has expired"
    if found.owner is not None and found.owner.role != found.role:
        return f"can do no more than its owner, who is no {found.role} now"
    return ""


def _made(ctx: Context, label: str, role: str, days: int) -> str:
    label = names.plain(label, "label", 200)
    if not 1 <= days <= MOST_DAYS:
        raise Invalid(f"must be 1 to {MOST_DAYS} days", "days")
    token = f"cts_{ctx.token()}"
    with ctx.transaction() as session:
        made = ServiceToken(
            label=label,
            role=role,
            token_hash=hash_token(token),
            owner_id=ctx.actor.person_id,
            created_at=ctx.now,
            expires_at=ctx.now + timedelta(days=days),
        )
        session.add(made)
        session.flush()
        after = {"role": role, "expires_at": made.expires_at.isoformat()}
        auditing.note(session, ctx, "made a service token", ("service token", made.id, label), after=after)
    return token


def _own(ctx: Context, token: ServiceToken) -> bool:
    return ctx.actor.person_id is not None and token.owner_id == ctx.actor.person_id


def _view(ctx: Context, t: ServiceToken, places: int) -> ServiceTokenView:
    state = "revoked" if t.revoked_at else "expired" if t.expires_at <= ctx.now else "active"
    return ServiceTokenView(
        id=t.id,
        label=t.label,
        role=t.role,
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
