"""The stays and pauses of subscriptions as the core's, and back into rows."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session, lazyload

from calm_tariff.core.periods import instant_if_any, instant_of, moment_of
from calm_tariff.core.stays import Pause, Stay, Timeline, TrialUnits
from calm_tariff.store.admit.subscriptions import Pause as StoredPause
from calm_tariff.store.admit.subscriptions import Stay as Stored
from calm_tariff.store.admit.subscriptions import Subscription


def of(subscription: Subscription) -> Timeline:
    """A stored subscription's stays, past, present and to come."""
    return tuple(stay_of(stored) for stored in subscription.stays)


def stay_of(stored: Stored, ended: datetime | None = None, units: TrialUnits | None = None) -> Stay:
    """A stored stay, ending no later than its subscription `ended`; `units` end a trial early."""
    until = min((moment for moment in (stored.end_at, ended) if moment), default=None)
    return Stay(
        id=stored.id,
        revision_id=stored.revision_id,
        start_us=instant_of(stored.start_at),
        trial=stored.trial,
        spent=stored.spent,
        units=units,
        end_us=instant_if_any(until),
        due_us=instant_if_any(stored.due_at),
    )


def keep(session: Session, subscription: Subscription, timeline: Timeline) -> None:
    """Make the stored stays of a subscription what a timeline says. Who changes what calls belong to holds
    `stamps.SHIPPING`."""
    rows = {stored.id: stored for stored in subscription.stays}
    for stay in timeline:
        stored = rows.pop(stay.id, None)
        if stored is None:
            stored = Stored(subscription_id=subscription.id)
            session.add(stored)
        stored.revision_id, stored.trial, stored.spent = stay.revision_id, stay.trial, stay.spent
        stored.start_at = moment_of(stay.start_us)
        stored.end_at, stored.due_at = _moment(stay.end_us), _moment(stay.due_us)
    for stored in rows.values():
        session.delete(stored)
    session.flush()
    session.expire(subscription, ["stays"])


def pauses_of(subscription: Subscription) -> tuple[Pause, ...]:
    """A stored subscription's pauses, in order."""
    return tuple(_pause(stored) for stored in subscription.pauses)


def pauses_of_all(session: Session, subscriptions: Collection[int] | None = None) -> dict[int, tuple[Pause, ...]]:
    """The pauses of all subscriptions, or of some, by subscription."""
    query = select(StoredPause)
    if subscriptions is not None:
        query = query.where(StoredPause.subscription_id.in_(subscriptions))
    found: dict[int, tuple[Pause, ...]] = {}
    for stored in session.scalars(query.order_by(StoredPause.start_at)):
        found[stored.subscription_id] = (*found.get(stored.subscription_id, ()), _pause(stored))
    return found


def of_all(session: Session, ended: Mapping[int, datetime | None]) -> dict[int, Timeline]:
    """The stays of some subscriptions, ending no later than these did, by subscription."""
    query = select(Stored).where(Stored.subscription_id.in_(ended)).options(lazyload(Stored.revision))
    found: dict[int, Timeline] = {}
    for stored in session.scalars(query.order_by(Stored.start_at, Stored.id)):
        of = stored.subscription_id
        found[of] = (*found.get(of, ()), stay_of(stored, ended[of]))
    return found


def keep_pauses(session: Session, subscription: Subscription, pauses: tuple[Pause, ...]) -> None:
    """Make the stored pauses of a subscription these."""
    rows = {instant_of(stored.start_at): stored for stored in subscription.pauses}
    for pause in pauses:
        stored = rows.pop(pause.start_us, None)
        if stored is None:
            stored = StoredPause(subscription_id=subscription.id, start_at=moment_of(pause.start_us))
            session.add(stored)
        stored.end_at = _moment(pause.end_us)
    for stored in rows.values():
        session.delete(stored)
    session.flush()
    session.expire(subscription, ["pauses"])


def _pause(stored: StoredPause) -> Pause:
    return Pause(start_us=instant_of(stored.start_at), end_us=instant_if_any(stored.end_at))


def _moment(instant: int | None) -> datetime | None:
    return None if instant is None else moment_of(instant)
