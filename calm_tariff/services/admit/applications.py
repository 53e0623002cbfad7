"""A consumer's applications and their keys."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core import names
from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.events import Thing
from calm_tariff.core.keys import fits
from calm_tariff.core.lifecycles import VALID_KEY
from calm_tariff.core.meters import Environment
from calm_tariff.core.routes import tells_environments_apart
from calm_tariff.formats.addresses import mail_address
from calm_tariff.services.admit import credentials, owned
from calm_tariff.services.admit.credentials import KeyView
from calm_tariff.services.admit.desk.own_requests import state_told
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import Context
from calm_tariff.services.compose import routes
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.locking import hold, locked

LONGEST_PURPOSE = 2000


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanHeld:
    """A plan an application is on, or has asked for. `state` is the request's or the subscription's; `key_header` is
    where its product takes keys."""

    product: str
    plan: str
    state: str
    note: str
    since: datetime
    request_id: int | None
    subscription_id: int | None
    key_header: str


@dataclass(frozen=True, slots=True, kw_only=True)
class ApplicationView:
    """An application with its keys and plans."""

    id: int
    name: str
    purpose: str
    environment: str
    contact: str
    created_at: datetime
    keys: list[KeyView]
    plans: list[PlanHeld]
    client_id: str
    tags: dict[str, str]


def own(ctx: Context) -> list[ApplicationView]:
    """The signed-in consumer's applications, without their keys where that is not for whoever asks."""
    owner, keys_too = ctx.actor.own_consumer, ctx.actor.may("see credentials")
    with ctx.reading() as session:
        found = of_consumer(session, owner, ctx.now)
    return found if keys_too else [replace(each, keys=[]) for each in found]


def of_consumer(session: Session, consumer_id: int, now: datetime) -> list[ApplicationView]:
    """A consumer's applications with keys and plans, in five queries."""
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
        select(Subscription)
        .where(Subscription.application_id.in_(ids), Subscription.undone.is_(False))
        .order_by(Subscription.id)
    ).all()
    used = credentials.uses(session, [k.id for a in applications for k in a.keys])
    granted = {s.request_id for s in subscriptions if s.request_id}
    plans: dict[int, list[PlanHeld]] = {}
    for s in subscriptions:
        plans.setdefault(s.application_id, []).append(
            PlanHeld(
                product=s.plan.product.name,
                plan=s.plan.name,
                state=s.state,
                note="",
                since=s.started_at,
                request_id=s.request_id,
                subscription_id=s.id,
                key_header=s.plan.product.key_header,
            )
        )
    for r in requests:
        if r.id not in granted and not (r.moves_id and r.state == "granted"):  # what it moved is there already
            plans.setdefault(r.application_id, []).append(
                PlanHeld(
                    product=r.plan.product.name,
                    plan=r.plan.name,
                    state=state_told(r, now),
                    note=r.note if state_told(r, now) == r.state else "",
                    since=r.decided_at or r.created_at,
                    request_id=r.id,
                    subscription_id=None,
                    key_header=r.plan.product.key_header,
                )
            )
    return [
        ApplicationView(
            id=a.id,
            name=a.name,
            purpose=a.purpose,
            environment=a.environment,
            contact=a.contact,
            created_at=a.created_at,
            keys=[credentials.key_view(k, now, used.get(k.id)) for k in a.keys],
            plans=plans.get(a.id, []),
            client_id=a.client_id,
            tags=dict(a.tags),
        )
        for a in applications
    ]


def register(
    ctx: Context, name: str, purpose: str = "", environment: Environment = "live", contact: str = ""
) -> ApplicationView:
    """A new application of the signed-in consumer. Raises `Invalid` or `Conflict`, naming the field."""
    consumer_id = ctx.actor.consumer_to("run applications")
    typed = _checked(name, purpose, contact)
    with ctx.transaction() as session:
        consumer = locked(session, Consumer, consumer_id)
        if consumer is None or consumer.state == "closed":
            raise Conflict("this account was closed meanwhile", "name")
        _refuse_same_name(session, consumer_id, typed["name"])
        made = Application(
            consumer_id=consumer_id,
            environment=environment,
            created_at=ctx.now,
            client_id=f"app-{ctx.token()[:20]}",
            **typed,
        )
        session.add(made)
        session.flush()
        auditing.note(session, ctx, "registered an application", subject(made))
        return _one(session, ctx, made)


def change(
    ctx: Context, application_id: int, name: str, purpose: str, environment: Environment, contact: str
) -> ApplicationView:
    """Say otherwise what one's own application is. Raises `NotFound` for another's, `Invalid`, and `Conflict` where the
    name is taken, or one for the sandbox alone would still have live keys."""
    consumer_id, typed = ctx.actor.consumer_to("run applications"), _checked(name, purpose, contact)
    with ctx.transaction() as session:
        hold(session, Consumer, consumer_id)
        application = owned.application(session, ctx, application_id, lock=True)
        if typed["name"] != application.name:
            _refuse_same_name(session, consumer_id, typed["name"])
        good = [k for k in application.keys if credentials.key_view(k, ctx.now).state in VALID_KEY]
        if not all(fits(environment, "live" if k.environment == "live" else "sandbox") for k in good):
            raise Conflict("it has live keys that are good; revoke them first", "environment")
        if (application.environment, environment) == ("sandbox", "live"):
            _refuse_going_live(session, application)
        before = _said(application)
        for field, value in {**typed, "environment": environment}.items():
            setattr(application, field, value)
        auditing.note(
            session, ctx, "changed an application", subject(application), before=before, after=_said(application)
        )
        stamps.touch(session, ctx)  # back ends may be told its name
        session.flush()
        return _one(session, ctx, application)


def set_tags(ctx: Context, application_id: int, tags: Mapping[str, str]) -> ApplicationView:
    """Give one's own application words of its own, which back ends may be told. Raises `Invalid`, `NotFound`."""
    given = names.tags(tags)
    with ctx.transaction() as session:
        application = owned.application(session, ctx, application_id)
        before, application.tags = dict(application.tags), given
        auditing.note(session, ctx, "changed tags", subject(application), before=before, after=given)
        stamps.touch(session, ctx)
        session.flush()
        return _one(session, ctx, application)


def subject(application: Application) -> Thing:
    """What the record calls it."""
    return Thing("application", application.id, application.name, application.consumer_id)


def _checked(name: str, purpose: str, contact: str) -> dict[str, str]:
    purpose = purpose.strip()
    if len(purpose) > LONGEST_PURPOSE:
        raise Invalid(f"must be at most {LONGEST_PURPOSE:,} characters long", "purpose")
    return {
        "name": names.plain(name, "name"),
        "purpose": purpose,
        "contact": mail_address(contact, "contact") if contact.strip() else "",
    }


def _refuse_same_name(session: Session, consumer_id: int, name: str) -> None:
    if session.scalar(select(Application.id).filter_by(consumer_id=consumer_id, name=name)):
        raise Conflict(f"you already have an application {name!r}", "name")


def _refuse_going_live(session: Session, application: Application) -> None:
    """An application that was let in for the sandbox alone does not go live by itself. Raises `Conflict`."""
    query = select(Subscription).where(Subscription.application_id == application.id, Subscription.state != "ended")
    for held in session.scalars(query):
        if tells_environments_apart(routes.of(held.plan.product)):
            words = f"it has {held.plan.product.name} for the sandbox; register another application to ask for live"
            raise Conflict(words, "environment")


def _said(application: Application) -> dict[str, str]:
    return {field: getattr(application, field) for field in ("name", "purpose", "environment", "contact")}


def _one(session: Session, ctx: Context, application: Application) -> ApplicationView:
    return next(a for a in of_consumer(session, application.consumer_id, ctx.now) if a.id == application.id)
