"""Holding a consumer's calls up because an invoice is not paid: from an instant on none is let through, until it is.
Its subscriptions and what is charged for them go on."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.notices import Kind
from calm_tariff.core.periods import instant_if_any, instant_of
from calm_tariff.core.stays import Pause
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.consumers import Consumer, PaymentPause


@dataclass(frozen=True, slots=True, kw_only=True)
class PaymentPauseView:
    """A stretch in which a consumer's calls were held up, or are, and the number of the invoice it was for."""

    start_at: datetime
    end_at: datetime | None
    invoice: str


def begin(session: Session, ctx: Context, consumer: Consumer, invoice: str) -> None:
    """Let none of a consumer's calls through from now on, for an invoice of that number; its members are told. Whoever
    calls this holds the consumer."""
    session.add(PaymentPause(consumer_id=consumer.id, start_at=ctx.now, invoice=invoice))
    _done(session, ctx, consumer, invoice, "paused a consumer for payment", "paused for payment")


def end(session: Session, ctx: Context, consumer: Consumer) -> None:
    """Let a consumer's calls through again, where they were held up. Whoever calls this holds the consumer."""
    pause = running(session, consumer.id)
    if pause is not None:
        pause.end_at = ctx.now
        _done(session, ctx, consumer, pause.invoice, "ended a pause for payment", "resumed after payment")


def running(session: Session, consumer_id: int) -> PaymentPause | None:
    """The pause that holds a consumer's calls up now, if one does."""
    query = select(PaymentPause).where(PaymentPause.consumer_id == consumer_id, PaymentPause.end_at.is_(None))
    return session.scalar(query.execution_options(populate_existing=True))


def all_running(session: Session) -> set[int]:
    """The consumers whose calls are held up now."""
    return set(session.scalars(select(PaymentPause.consumer_id).where(PaymentPause.end_at.is_(None))))


def of_consumer(session: Session, consumer_ids: Iterable[int]) -> list[PaymentPauseView]:
    """All stretches in which calls of consumers were held up, the latest first."""
    query = select(PaymentPause).where(PaymentPause.consumer_id.in_(list(consumer_ids)))
    return [
        PaymentPauseView(start_at=p.start_at, end_at=p.end_at, invoice=p.invoice)
        for p in session.scalars(query.order_by(PaymentPause.id.desc()))
    ]


def told(ctx: Context) -> str:
    """The number of the invoice for which calls of the organisation of whoever is signed in are held up; nothing where
    they are not, or nobody is signed in."""
    with ctx.reading() as session:
        pause = running(session, ctx.actor.consumer_id or 0)
        return pause.invoice if pause is not None else ""


def of_all(session: Session) -> dict[int, tuple[Pause, ...]]:
    """All stretches in which calls were held up, by consumer."""
    found: dict[int, tuple[Pause, ...]] = {}
    for stored in session.scalars(select(PaymentPause).order_by(PaymentPause.start_at)):
        stretch = Pause(start_us=instant_of(stored.start_at), end_us=instant_if_any(stored.end_at))
        found[stored.consumer_id] = (*found.get(stored.consumer_id, ()), stretch)
    return found


def _done(session: Session, ctx: Context, consumer: Consumer, invoice: str, did: str, kind: Kind) -> None:
    subject = ("consumer", consumer.id, consumer.name)
    auditing.note(session, ctx, did, subject, after={"invoice": invoice})
    notice = Notice(kind=kind, fields={"organisation": consumer.name, "number": invoice}, page="/invoices")
    notify(session, ctx, members(subscribers.members_of(session, [consumer.id])), notice)
    stamps.touch(session, ctx)
