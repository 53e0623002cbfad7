"""A consumer's applications and their keys."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.lifecycles import KEY, move
from calm_tariff.core.meters import Environment
from calm_tariff.services import auditing, stamps
from calm_tariff.services.context import Context
from calm_tariff.services.secrets import hash_token
from calm_tariff.store.admission import AccessRequest, ApiKey, Application, Subscription

PREFIX_LENGTH = 12


@dataclass(frozen=True, slots=True)
class KeyView:
    """A key as it can be shown: never the secret itself."""

    id: int
    label: str
    prefix: str
    environment: str
    state: str
    created_at: datetime


@dataclass(frozen=True, slots=True)
class NewKey:
    """A key just made. `secret` is shown this once and kept nowhere."""

    key: KeyView
    secret: str


@dataclass(frozen=True, slots=True)
class PlanHeld:
    """A plan an application is on, or has asked for. `state` is the request's or the subscription's."""

    product: str
    plan: str
    state: str
    note: str
    since: datetime
    request_id: int | None
    subscription_id: int | None


@dataclass(frozen=True, slots=True)
class ApplicationView:
    """An application with its keys and plans."""

    id: int
    name: str
    description: str
    created_at: datetime
    keys: list[KeyView]
    plans: list[PlanHeld]


def own(ctx: Context) -> list[ApplicationView]:
    """The signed-in consumer's applications."""
    with ctx.transaction() as session:
        return of_consumer(session, ctx.actor.own_consumer)


def of_consumer(session: Session, consumer_id: int) -> list[ApplicationView]:
    """A consumer's applications with keys and plans, in four queries."""
    applications = session.scalars(
        select(Application)
        .where(Application.consumer_id == consumer_id)
        .options(selectinload(Application.keys))
        .order_by(Application.name)
    ).all()
    ids = [a.id for a in applications]
    requests = session.scalars(
        select(AccessRequest).where(AccessRequest.application_id.in_(ids)).order_by(AccessRequest.id)
    ).all()
    subscriptions = session.scalars(
        select(Subscription).where(Subscription.application_id.in_(ids)).order_by(Subscription.id)
    ).all()
    granted = {s.request_id for s in subscriptions if s.request_id}
    plans: dict[int, list[PlanHeld]] = {}
    for s in subscriptions:
        plans.setdefault(s.application_id, []).append(
            PlanHeld(s.plan.product.name, s.plan.name, s.state, "", s.started_at, s.request_id, s.id)
        )
    for r in requests:
        if r.id not in granted:
            plans.setdefault(r.application_id, []).append(
                PlanHeld(
                    r.plan.product.name,
                    r.plan.name,
                    r.state,
                    r.note,
                    r.decided_at or r.created_at,
                    r.id,
                    None,
                )
            )
    return [
        ApplicationView(a.id, a.name, a.description, a.created_at, [_key(k) for k in a.keys], plans.get(a.id, []))
        for a in applications
    ]


def register(ctx: Context, name: str, description: str) -> ApplicationView:
    """A new application of the signed-in consumer. Raises `Invalid` or `Conflict`."""
    consumer_id = ctx.actor.own_consumer
    name = name.strip()
    if not name:
        raise Invalid("must not be empty", "name")
    with ctx.transaction() as session:
        if session.scalar(select(Application).filter_by(consumer_id=consumer_id, name=name)):
            raise Conflict(f"you already have an application {name!r}", "name")
        made = Application(consumer_id=consumer_id, name=name, description=description, created_at=ctx.now)
        session.add(made)
        session.flush()
        auditing.note(session, ctx, "registered an application", ("application", made.id, name))
        return ApplicationView(made.id, name, description, made.created_at, [], [])


def make_key(ctx: Context, application_id: int, label: str, environment: Environment = "live") -> NewKey:
    """A new key for one's own application. Raises `NotFound` for another's."""
    with ctx.transaction() as session:
        application = owned(session, ctx, application_id)
        secret = f"lt_{'live' if environment == 'live' else 'sand'}_{ctx.token()}"
        key = ApiKey(
            application_id=application.id, label=label.strip() or "key", environment=environment,
            prefix=secret[:PREFIX_LENGTH], key_hash=hash_token(secret), state="active", created_at=ctx.now,
        )  # fmt: skip
        session.add(key)
        session.flush()
        auditing.note(session, ctx, "made a key", ("key", key.id, f"{key.prefix}… of {application.name}"))
        stamps.touch(session, ctx)
        return NewKey(_key(key), secret)


def revoke_key(ctx: Context, key_id: int) -> KeyView:
    """Make one's own key invalid at once. Raises `NotFound` for another's, `Conflict` for a dead one."""
    with ctx.transaction() as session:
        key = session.get(ApiKey, key_id, with_for_update=True)
        if key is None or key.application.consumer_id != ctx.actor.own_consumer:
            raise NotFound("there is no such key", str(key_id))
        key.state = move(KEY, key.label, key.state, "revoked")
        key.revoked_at = ctx.now
        auditing.note(session, ctx, "revoked a key", ("key", key.id, f"{key.prefix}… of {key.application.name}"))
        stamps.touch(session, ctx)
        return _key(key)


def owned(session: Session, ctx: Context, application_id: int) -> Application:
    """One's own application. Raises `NotFound` for another's, just as for none."""
    found = session.get(Application, application_id)
    if found is None or found.consumer_id != ctx.actor.own_consumer:
        raise NotFound("there is no such application", str(application_id))
    return found


def _key(key: ApiKey) -> KeyView:
    return KeyView(key.id, key.label, key.prefix, key.environment, key.state, key.created_at)
