"""Telling endpoints what happens: each in the order in which it happened, none held up by another.

An endpoint that does not take an event is tried again after pauses, and hears of nothing later until it has it. The
same event may reach it twice, should a worker die between sending and keeping the answer: its id tells.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

from sqlalchemy import ColumnElement, and_, delete, func, or_, select
from sqlalchemy.orm import Session

from calm_tariff.core import events as rules
from calm_tariff.services.base import auditing, jobs, webhooks
from calm_tariff.services.base.context import SYSTEM, Context
from calm_tariff.services.base.sealing import unseal
from calm_tariff.store.base.events import Event
from calm_tariff.store.base.locking import locked
from calm_tariff.store.house.endpoints import EventDelivery, EventEndpoint

SEND = "tell an endpoint what happened"
SEND_AGAIN = "tell an endpoint again what happened"
# So much of an answer is kept.
LONGEST_ANSWER = 500
# Whoever answers so wants nothing any more (Standard Webhooks 1.0).
GONE = 410

What = Literal["sent", "sent again"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Outgoing:
    """An event on its way to an endpoint, as it is to be sent now."""

    endpoint_id: int
    event_id: int
    what: What
    url: str
    signed: webhooks.Signed


@dataclass(frozen=True, slots=True, kw_only=True)
class Answered:
    """What an endpoint answered, and after how long; `status` is None where it did not answer, and why `words` say."""

    status: int | None
    words: str
    took_ms: int

    @property
    def taken(self) -> bool:
        """Whether it has taken the event."""
        return self.status is not None and 200 <= self.status < 300

    @property
    def said(self) -> str:
        """The answer in a line."""
        if self.status is None:
            return self.words
        return f"answered {self.status}{': ' + self.words if self.words else ''}"


def hand_out(ctx: Context) -> int:
    """Have every endpoint that is behind told; returns how many are. One that is tried again stays so."""
    with ctx.transaction() as session:
        newest = session.scalar(select(func.max(Event.id))) or 0
        behind = select(EventEndpoint).where(EventEndpoint.on, EventEndpoint.told_until < newest)
        found = session.scalars(behind.order_by(EventEndpoint.id)).all()
        for each in found:
            jobs.see_to(session, ctx, SEND, f"“{each.name}”", {"endpoint": each.id}, subject=str(each.id))
        return len(found)


def go_on(session: Session, ctx: Context, endpoint: EventEndpoint) -> None:
    """Have an endpoint tried now, with all its tries."""
    if endpoint.on:
        jobs.write(session, ctx, SEND, f"“{endpoint.name}”", {"endpoint": endpoint.id}, subject=str(endpoint.id))


def next_to_tell(ctx: Context, endpoint_id: int) -> Outgoing | None:
    """The next event that an endpoint is to be told of; None where it knows all, is off or gone. Raises `Sealed`."""
    with ctx.transaction() as session:
        endpoint = session.get(EventEndpoint, endpoint_id)
        if endpoint is None or not endpoint.on:
            return None
        newest = session.scalar(select(func.max(Event.id))) or 0
        event = first_waiting(session, endpoint)
        if event is None:
            if endpoint.told_until < newest:  # what it does not want is behind it, too
                endpoint.told_until = newest
            return None
        return _outgoing(ctx, endpoint, event, "sent")


def to_tell_again(ctx: Context, endpoint_id: int, event_id: int) -> Outgoing | None:
    """An event that somebody wants sent to an endpoint again; None where one of them is gone. Raises `Sealed`."""
    with ctx.transaction() as session:
        endpoint, event = session.get(EventEndpoint, endpoint_id), session.get(Event, event_id)
        if endpoint is None or event is None:
            return None
        return _outgoing(ctx, endpoint, event, "sent again")


def keep(ctx: Context, sent: Outgoing, answered: Answered) -> None:
    """Keep what an endpoint answered. One that has taken an event goes on to the next; one that is gone is off."""
    with ctx.transaction() as session:
        endpoint = locked(session, EventEndpoint, sent.endpoint_id)
        if endpoint is None or session.get(Event, sent.event_id) is None:
            return
        _delivered(session, ctx, sent, answered)
        if answered.taken and sent.what == "sent":
            endpoint.told_until = max(endpoint.told_until, sent.event_id)
        if answered.status == GONE and endpoint.on:
            endpoint.on, endpoint.off_why = False, "it answered that it is gone (410)"
            endpoint.edition += 1
            thing = rules.Thing("endpoint", endpoint.id, endpoint.name)
            auditing.note(session, ctx.acting(SYSTEM), "turned an endpoint off", thing, why=endpoint.off_why)


def waiting(session: Session, endpoint: EventEndpoint) -> tuple[int, datetime | None]:
    """How many events an endpoint has not been told of, and since when the first of them waits."""
    query = select(func.count(), func.min(Event.at)).where(_to_tell(endpoint))
    number, since = session.execute(query).one()
    return number, since


def first_waiting(session: Session, endpoint: EventEndpoint) -> Event | None:
    """The event that an endpoint is to be told of next."""
    return session.scalar(select(Event).where(_to_tell(endpoint)).order_by(Event.id).limit(1))


def forget(ctx: Context) -> None:
    """Forget events that are a month old, and what was answered to them."""
    with ctx.transaction() as session:
        last = session.scalar(select(func.max(Event.id)).where(Event.at < ctx.now - rules.KEPT))
        if last is not None:
            session.execute(delete(EventDelivery).where(EventDelivery.event_id <= last))
            session.execute(delete(Event).where(Event.id <= last))


def _to_tell(endpoint: EventEndpoint) -> ColumnElement[bool]:
    own_test = and_(Event.type == rules.TESTED, Event.subject_id == endpoint.id)
    return and_(Event.id > endpoint.told_until, or_(own_test, *_chosen(endpoint.wants)))


def _chosen(wants: Iterable[str]) -> list[ColumnElement[bool]]:
    if rules.EVERYTHING in wants:
        return [Event.type != rules.TESTED]
    all_types = [one for of_topic in rules.types().values() for one in of_topic]
    return [Event.type.in_([one for one in all_types if rules.wants(list(wants), one) and one != rules.TESTED])]


def _outgoing(ctx: Context, endpoint: EventEndpoint, event: Event, what: What) -> Outgoing:
    body = _message(event) if endpoint.form == "chat message" else _body(event)
    secret, former = (
        unseal(ctx.sealing_secret, one) if one else "" for one in (endpoint.secret, _former(ctx, endpoint))
    )
    return Outgoing(
        endpoint_id=endpoint.id,
        event_id=event.id,
        what=what,
        url=unseal(ctx.sealing_secret, endpoint.address),
        signed=webhooks.signed(secret, f"evt_{event.id}", ctx.now, body, former),
    )


def _former(ctx: Context, endpoint: EventEndpoint) -> str:
    until = endpoint.former_until
    return (endpoint.former_secret or "") if until is not None and until > ctx.now else ""


def _body(event: Event) -> str:
    data: dict[str, Any] = {
        "subject": {"kind": event.subject_kind, "id": event.subject_id, "name": event.subject},
        "consumer": event.consumer_id,
        "by": {"id": event.by, "name": event.actor},
        "said": event.said,
        "record": event.entry_id,
        **event.detail,
    }
    return webhooks.event(event.type, event.at, data)


def _message(event: Event) -> str:
    why = str(event.detail.get("why") or "")
    return json.dumps({"text": f"{event.said}.{' “' + why + '”' if why else ''}"}, ensure_ascii=False)


def _delivered(session: Session, ctx: Context, sent: Outgoing, answered: Answered) -> None:
    session.add(
        EventDelivery(
            endpoint_id=sent.endpoint_id,
            event_id=sent.event_id,
            what=sent.what,
            at=ctx.now,
            status=answered.status,
            answer=answered.words[:LONGEST_ANSWER],
            took_ms=answered.took_ms,
            taken=answered.taken,
        )
    )
