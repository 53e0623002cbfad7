"""Suspending a consumer: from an instant on none of its calls is let through, until it is resumed. Its subscriptions
and what is charged for them go on."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import reasons
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.lifecycles import CONSUMER, move
from calm_tariff.core.notices import Kind
from calm_tariff.core.periods import instant_if_any, instant_of
from calm_tariff.core.stays import Pause
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.consumers import Consumer, Suspension
from calm_tariff.store.base.locking import locked


@dataclass(frozen=True, slots=True, kw_only=True)
class SuspensionView:
    """A stretch in which a consumer was suspended, or is."""

    start_at: datetime
    end_at: datetime | None
    reason: str
    suspended_by: str
    resumed_by: str | None


def suspend(ctx: Context, consumer_id: int, reason: str) -> None:
    """Let none of a consumer's calls through from now on; its members are told why. Raises `NotFound`, `Invalid` for no
    reason, `Conflict` where it is no consumer that calls."""
    ctx.actor.must_be("operations", "product manager")
    reason = reasons.given(reason, "say why: its members are told")
    with ctx.transaction() as session:
        consumer = _moved(session, ctx, consumer_id, "suspended", "suspended a consumer", reason)
        session.add(Suspension(consumer_id=consumer_id, start_at=ctx.now, reason=reason, suspended_by=ctx.actor.name))
        _tell(session, ctx, consumer, "account suspended", reason)


def resume(ctx: Context, consumer_id: int) -> None:
    """Let a suspended consumer's calls through again. Raises `NotFound`, `Conflict` where it is not suspended."""
    ctx.actor.must_be("operations", "product manager")
    with ctx.transaction() as session:
        consumer = _moved(session, ctx, consumer_id, "let in", "resumed a consumer", "", "suspended")
        running = select(Suspension).where(Suspension.consumer_id == consumer_id, Suspension.end_at.is_(None))
        for suspension in session.scalars(running):
            suspension.end_at, suspension.resumed_by = ctx.now, ctx.actor.name
        _tell(session, ctx, consumer, "account resumed", "")


def of_consumer(session: Session, consumer_id: int) -> list[SuspensionView]:
    """All stretches in which a consumer was suspended, the latest first."""
    query = select(Suspension).where(Suspension.consumer_id == consumer_id).order_by(Suspension.id.desc())
    return [
        SuspensionView(
            start_at=s.start_at,
            end_at=s.end_at,
            reason=s.reason,
            suspended_by=s.suspended_by,
            resumed_by=s.resumed_by,
        )
        for s in session.scalars(query)
    ]


def told(ctx: Context) -> str:
    """Why the organisation of whoever is signed in is suspended; nothing where it is not, or nobody is signed in."""
    query = select(Suspension.reason).where(
        Suspension.consumer_id == (ctx.actor.consumer_id or 0), Suspension.end_at.is_(None)
    )
    with ctx.reading() as session:
        return session.scalar(query.limit(1)) or ""


def of_all(session: Session) -> dict[int, tuple[Pause, ...]]:
    """All stretches in which consumers were suspended, by consumer."""
    found: dict[int, tuple[Pause, ...]] = {}
    for stored in session.scalars(select(Suspension).order_by(Suspension.start_at)):
        stretch = Pause(start_us=instant_of(stored.start_at), end_us=instant_if_any(stored.end_at))
        found[stored.consumer_id] = (*found.get(stored.consumer_id, ()), stretch)
    return found


def _moved(
    session: Session, ctx: Context, consumer_id: int, to: str, did: str, reason: str, only_from: str | None = None
) -> Consumer:
    consumer = locked(session, Consumer, consumer_id)
    if consumer is None:
        raise NotFound("there is no such consumer", str(consumer_id))
    before = consumer.state
    if only_from is not None and before != only_from:
        raise Conflict(f"it is {before}, not {only_from}", consumer.name)
    consumer.state = move(CONSUMER, consumer.name, before, to)
    subject = ("consumer", consumer.id, consumer.name)
    auditing.note(session, ctx, did, subject, {"state": before}, {"state": to}, why=reason)
    stamps.touch(session, ctx)
    return consumer


def _tell(session: Session, ctx: Context, consumer: Consumer, kind: Kind, reason: str) -> None:
    fields = {"organisation": consumer.name, "note": reason}
    notice = Notice(kind=kind, fields=fields, page="/applications")
    notify(session, ctx, members(subscribers.members_of(session, [consumer.id])), notice)
