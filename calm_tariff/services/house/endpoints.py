"""Endpoints: where the provider's own systems and rooms are told what happens, by signed webhook or chat message."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Literal, get_args
from urllib.parse import urlsplit

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from calm_tariff.core import events as rules
from calm_tariff.core import names
from calm_tariff.core.errors import Conflict, Invalid, NotFound, Stale
from calm_tariff.core.events import Thing
from calm_tariff.services.base import auditing, events, jobs, reaching, webhooks
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.base.sealing import seal
from calm_tariff.services.house import telling
from calm_tariff.store.base.events import Event
from calm_tariff.store.base.locking import locked
from calm_tariff.store.house.endpoints import EventDelivery, EventEndpoint

Form = Literal["signed webhook", "chat message"]
FORMS: tuple[Form, ...] = get_args(Form)
CHANGERS = ("operations", "owner")
MOST = 20
# So long webhooks are signed with the former secret as well, once there is another.
OVERLAP = timedelta(hours=24)
LONGEST_URL = 500


@dataclass(frozen=True, slots=True, kw_only=True)
class EndpointTyped:
    """An endpoint as somebody wants it: where, as what, and which events (core.events.chosen). Without an address, it
    stays where it is."""

    name: str
    form: Form = "signed webhook"
    url: str | None = None
    wants: Sequence[str] = (rules.EVERYTHING,)


@dataclass(frozen=True, slots=True, kw_only=True)
class EndpointView:
    """An endpoint: where it is, as far as that is no secret; `waiting` events it has not been told yet, the first of
    them `waiting_since`, and what is wrong, where something is. One that `gave_up` is told nothing until somebody has
    it tried again; otherwise it is tried next at `next_at`."""

    id: int
    name: str
    form: Form
    shown: str
    wants: list[str]
    on: bool
    off_why: str
    made_by: str
    made_at: datetime
    former_until: datetime | None
    waiting: int
    waiting_since: datetime | None
    told_at: datetime | None
    trouble: str
    tries: int
    gave_up: bool
    next_at: datetime | None
    edition: int


@dataclass(frozen=True, slots=True, kw_only=True)
class EndpointMade:
    """An endpoint with a new secret, which its webhooks are signed with: shown this once."""

    endpoint: EndpointView
    secret: str


@dataclass(frozen=True, slots=True)
class EventTopic:
    """The types of events of one topic."""

    topic: str
    types: list[str]


def topics(ctx: Context) -> list[EventTopic]:
    """Every type of event, by topic."""
    ctx.actor.must_be(*ROLES)
    return [EventTopic(topic, of_topic) for topic, of_topic in rules.types().items()]


def everything(ctx: Context) -> list[EndpointView]:
    """All endpoints, by name."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        found = session.scalars(select(EventEndpoint).order_by(EventEndpoint.name, EventEndpoint.id)).all()
        return _views(session, ctx, found)


def one(ctx: Context, endpoint_id: int) -> EndpointView:
    """An endpoint. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        found = session.get(EventEndpoint, endpoint_id)
        if found is None:
            raise NotFound("there is no such endpoint", str(endpoint_id))
        return _views(session, ctx, [found])[0]


def make(ctx: Context, typed: EndpointTyped) -> EndpointMade:
    """An endpoint that is told what happens from now on. Raises `Invalid`, naming the field, and `Conflict`."""
    ctx.actor.must_be(*CHANGERS)
    if typed.form not in FORMS:
        raise Invalid(f"must be one of {', '.join(FORMS)}", "form")
    if not (typed.url or "").strip():
        raise Invalid("must not be empty", "url")
    made = EventEndpoint(form=typed.form, on=True, made_by=ctx.actor.name, made_at=ctx.now)
    secret = webhooks.new_secret()
    with ctx.transaction() as session:
        _fill(session, ctx, made, typed)
        if (session.scalar(select(func.count()).select_from(EventEndpoint)) or 0) >= MOST:
            raise Conflict(f"there are {MOST} endpoints already; take some away first", "endpoints")
        made.secret = seal(ctx.sealing_secret, secret)
        made.told_until = session.scalar(select(func.max(Event.id))) or 0
        session.add(made)
        session.flush()
        auditing.note(session, ctx, "made an endpoint", subject(made), after=_said(made))
        return EndpointMade(endpoint=_views(session, ctx, [made])[0], secret=secret)


def change(ctx: Context, endpoint_id: int, typed: EndpointTyped, edition: int) -> EndpointView:
    """Give an endpoint another name, address or choice of events; of these it is told what comes from now on, and what
    waits. Raises `NotFound`, `Stale` where another has changed it since `edition`, and `Invalid`."""
    ctx.actor.must_be(*CHANGERS)
    with ctx.transaction() as session:
        found = _held(session, endpoint_id)
        if found.edition != edition:
            now = _views(session, ctx, [found])[0]
            raise Stale("somebody else has changed it meanwhile; look at it again", found.name, now)
        if typed.form != found.form:
            raise Invalid(f"cannot become another; it is a {found.form}", "form")
        before = _said(found)
        _fill(session, ctx, found, typed)
        found.edition += 1
        if _said(found) != before or typed.url:
            auditing.note(session, ctx, "changed an endpoint", subject(found), before, _said(found))
        telling.go_on(session, ctx, found)
        return _views(session, ctx, [found])[0]


def new_secret(ctx: Context, endpoint_id: int) -> EndpointMade:
    """Give an endpoint another secret. For a day, its webhooks are signed with the former one as well."""
    ctx.actor.must_be(*CHANGERS)
    secret = webhooks.new_secret()
    with ctx.transaction() as session:
        found = _held(session, endpoint_id)
        if found.form != "signed webhook":
            raise Conflict("nothing of it is signed", found.name)
        found.former_secret, found.former_until = found.secret, ctx.now + OVERLAP
        found.secret, found.edition = seal(_key(ctx), secret), found.edition + 1
        auditing.note(session, ctx, "gave an endpoint another secret", subject(found))
        return EndpointMade(endpoint=_views(session, ctx, [found])[0], secret=secret)


def turn(ctx: Context, endpoint_id: int, on: bool) -> EndpointView:
    """Tell an endpoint nothing for now; or go on, with what has waited since. Raises `NotFound`."""
    ctx.actor.must_be(*CHANGERS)
    with ctx.transaction() as session:
        found = _held(session, endpoint_id)
        if found.on != on:
            found.on, found.off_why, found.edition = on, "", found.edition + 1
            auditing.note(session, ctx, f"turned an endpoint {'on' if on else 'off'}", subject(found))
            if on:
                telling.go_on(session, ctx, found)
            else:
                jobs.forget(session, telling.SEND, str(found.id))
        return _views(session, ctx, [found])[0]


def take_away(ctx: Context, endpoint_id: int) -> None:
    """Take an endpoint away, with what it was told. Raises `NotFound`."""
    ctx.actor.must_be(*CHANGERS)
    with ctx.transaction() as session:
        found = _held(session, endpoint_id)
        auditing.note(session, ctx, "took an endpoint away", subject(found), before=_said(found))
        jobs.forget(session, telling.SEND, str(found.id))
        session.execute(delete(EventDelivery).where(EventDelivery.endpoint_id == endpoint_id))
        session.delete(found)


def test(ctx: Context, endpoint_id: int) -> None:
    """Send an endpoint an event that goes to it alone, in its turn. Raises `NotFound`, `Conflict` where it is off."""
    ctx.actor.must_be(*CHANGERS)
    with ctx.transaction() as session:
        found = _held(session, endpoint_id)
        if not found.on:
            raise Conflict("it is off; turn it on first", found.name)
        events.write(session, ctx, rules.TESTED, subject(found), f"{ctx.actor.name} tests {found.name}")


def subject(endpoint: EventEndpoint) -> Thing:
    """What the record and events call it."""
    return Thing("endpoint", endpoint.id, endpoint.name)


def _held(session: Session, endpoint_id: int) -> EventEndpoint:
    found = locked(session, EventEndpoint, endpoint_id)
    if found is None:
        raise NotFound("there is no such endpoint", str(endpoint_id))
    return found


def _fill(session: Session, ctx: Context, endpoint: EventEndpoint, typed: EndpointTyped) -> None:
    endpoint.name = names.plain(typed.name, "name", 60)
    same = select(func.count()).where(EventEndpoint.name == endpoint.name, EventEndpoint.id != (endpoint.id or 0))
    with session.no_autoflush:
        if session.scalar(same):
            raise Conflict("there is an endpoint of this name already", "name")
    endpoint.wants = rules.chosen(typed.wants)
    if typed.url is None or not typed.url.strip():
        return
    url = typed.url.strip()
    if len(url) > LONGEST_URL:
        raise Invalid(f"must be at most {LONGEST_URL} characters long", "url")
    address = reaching.for_webhooks(ctx, url)
    endpoint.address = seal(_key(ctx), address)
    endpoint.shown = address if endpoint.form == "signed webhook" else _origin(address)


def _key(ctx: Context) -> str:
    if not ctx.sealing_secret:
        raise Conflict("this installation has no secret to seal with (CALM_VALUE_SECRET)", "url")
    return ctx.sealing_secret


def _origin(url: str) -> str:
    """Where a chat room is: the rest of its address is what lets one write there."""
    return f"{urlsplit(url).scheme}://{urlsplit(url).netloc}/…"


def _said(endpoint: EventEndpoint) -> dict[str, object]:
    return {"name": endpoint.name, "address": endpoint.shown, "events": list(endpoint.wants)}


def _views(session: Session, ctx: Context, found: Sequence[EventEndpoint]) -> list[EndpointView]:
    under_way = jobs.of(session, telling.SEND, [str(each.id) for each in found])
    told = select(EventDelivery.endpoint_id, func.max(EventDelivery.at)).where(EventDelivery.taken)
    last: dict[int, datetime] = {of: at for of, at in session.execute(told.group_by(EventDelivery.endpoint_id))}  # noqa: C416
    views = []
    for each in found:
        job = under_way.get(str(each.id))
        trouble = job is not None and bool(job.last_error)
        number, since = telling.waiting(session, each)
        views.append(
            EndpointView(
                id=each.id,
                name=each.name,
                form="chat message" if each.form == "chat message" else "signed webhook",
                shown=each.shown,
                wants=list(each.wants),
                on=each.on,
                off_why=each.off_why,
                made_by=each.made_by,
                made_at=each.made_at,
                former_until=each.former_until if each.former_until and each.former_until > ctx.now else None,
                waiting=number,
                waiting_since=since,
                told_at=last.get(each.id),
                trouble=job.last_error if job is not None and trouble else "",
                tries=job.attempts if job is not None and trouble else 0,
                gave_up=job is not None and job.given_up,
                next_at=job.run_at if job is not None and trouble and not job.given_up else None,
                edition=each.edition,
            )
        )
    return views
