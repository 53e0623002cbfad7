"""What endpoints were told and answered; and having an event sent again, tried now, or passed over."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime

from sqlalchemy import select

from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.services.base import auditing, jobs
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.house import telling
from calm_tariff.services.house.endpoints import CHANGERS, EndpointView, one, subject
from calm_tariff.store.base.events import Event
from calm_tariff.store.base.locking import locked
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.house.endpoints import EventDelivery, EventEndpoint


@dataclass(frozen=True, slots=True, kw_only=True)
class DeliveryView:
    """One attempt to tell an endpoint of an event. `what`: sent, sent again, passed over. `status` is the HTTP status
    of its `answer`, none where it did not answer."""

    id: int
    event_id: int
    type: str
    said: str
    happened_at: datetime
    what: str
    at: datetime
    status: int | None
    answer: str
    took_ms: int
    taken: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class NextEvent:
    """The event that an endpoint is to be told of next."""

    id: int
    type: str
    said: str
    at: datetime


def of(ctx: Context, endpoint_id: int, wanted: PageQuery, only_failed: bool = False) -> Page[DeliveryView]:
    """A page of what an endpoint was told, the latest first, or the first first if `down`; words narrow it to types of
    events and what they say. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        if session.get(EventEndpoint, endpoint_id) is None:
            raise NotFound("there is no such endpoint", str(endpoint_id))
        query = select(EventDelivery, Event).join(Event, Event.id == EventDelivery.event_id)
        query = query.where(EventDelivery.endpoint_id == endpoint_id)
        if only_failed:
            query = query.where(EventDelivery.taken.is_(False))
        if wanted.words:
            words = (c.contains(wanted.words, autoescape=True) for c in (Event.type, Event.said))
            first, second = words
            query = query.where(first | second)
        asked = replace(wanted, down=not wanted.down)
        found = page(session, query, EventDelivery.id, {"at": EventDelivery.at}, asked)
        return replace(found, rows=[_view(delivery, event) for delivery, event in found.rows])


def next_of(ctx: Context, endpoint_id: int) -> NextEvent | None:
    """The event that an endpoint is to be told of next, where one waits. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        endpoint = session.get(EventEndpoint, endpoint_id)
        if endpoint is None:
            raise NotFound("there is no such endpoint", str(endpoint_id))
        event = telling.first_waiting(session, endpoint)
        return NextEvent(id=event.id, type=event.type, said=event.said, at=event.at) if event else None


def send_again(ctx: Context, endpoint_id: int, event_id: int) -> None:
    """Have an event that an endpoint was told of sent there once more, under the id that it had. Raises `NotFound`."""
    ctx.actor.must_be(*CHANGERS)
    with ctx.transaction() as session:
        endpoint = locked(session, EventEndpoint, endpoint_id)
        told = select(EventDelivery.id).where(
            EventDelivery.endpoint_id == endpoint_id, EventDelivery.event_id == event_id
        )
        if endpoint is None or session.scalar(told.limit(1)) is None:
            raise NotFound("it was not told of such an event", str(event_id))
        key = f"{endpoint_id}-{event_id}"
        arguments = {"endpoint": endpoint_id, "event": event_id}
        jobs.write(session, ctx, telling.SEND_AGAIN, f"event {event_id} to “{endpoint.name}”", arguments, subject=key)
        auditing.note(session, ctx, "had an event sent again", subject(endpoint), after={"event": event_id})


def go_on(ctx: Context, endpoint_id: int) -> EndpointView:
    """Have an endpoint that fails tried now, with all its tries. Raises `NotFound`, `Conflict` where it is off."""
    ctx.actor.must_be(*CHANGERS)
    with ctx.transaction() as session:
        endpoint = locked(session, EventEndpoint, endpoint_id)
        if endpoint is None:
            raise NotFound("there is no such endpoint", str(endpoint_id))
        if not endpoint.on:
            raise Conflict("it is off; turn it on first", endpoint.name)
        telling.go_on(session, ctx, endpoint)
        auditing.note(session, ctx, "had an endpoint tried again", subject(endpoint))
    return one(ctx, endpoint_id)


def pass_over(ctx: Context, endpoint_id: int, event_id: int) -> EndpointView:
    """Leave out the event that an endpoint is to be told of next, so that it hears of those after it. Raises
    `NotFound`, and `Conflict` where it is another event's turn by now."""
    ctx.actor.must_be(*CHANGERS)
    with ctx.transaction() as session:
        endpoint = locked(session, EventEndpoint, endpoint_id)
        if endpoint is None:
            raise NotFound("there is no such endpoint", str(endpoint_id))
        event = telling.first_waiting(session, endpoint)
        if event is None or event.id != event_id:
            raise Conflict("it is another event's turn by now; look again", endpoint.name)
        endpoint.told_until = event_id
        session.add(
            EventDelivery(
                endpoint_id=endpoint_id,
                event_id=event_id,
                what="passed over",
                at=ctx.now,
                status=None,
                answer=f"{ctx.actor.name} wanted it left out.",
                took_ms=0,
                taken=False,
            )
        )
        telling.go_on(session, ctx, endpoint)
        auditing.note(session, ctx, "passed an event over", subject(endpoint), after={"event": event_id})
    return one(ctx, endpoint_id)


def _view(delivery: EventDelivery, event: Event) -> DeliveryView:
    return DeliveryView(
        id=delivery.id,
        event_id=event.id,
        type=event.type,
        said=event.said,
        happened_at=event.at,
        what=delivery.what,
        at=delivery.at,
        status=delivery.status,
        answer=delivery.answer,
        took_ms=delivery.took_ms,
        taken=delivery.taken,
    )
