"""The handoff as it is shown: how it stands in a few figures, and what the outside said."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime

from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.handoff import next_due
from calm_tariff.core.periods import moment_of
from calm_tariff.services.base import jobs
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.settle.handoff import handing_on, mapped, products, sums
from calm_tariff.services.settle.handoff.products import OutsideProductView
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.settle.handoff import (
    HandedBatch,
    HandedUnits,
    OutsideWord,
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Trouble:
    """Why the last try to hand on failed, how many have since one went well, and when the next one is."""

    said: str
    tries: int
    next_at: datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class HandoffView:
    """The handoff in a few figures: whether anybody bills outside, what is billed there, in which months; how many
    consumers, plans and subscriptions are not mapped; how many events there are by state; when one was accepted last,
    and when the next hour is due."""

    connected: bool
    products: list[OutsideProductView]
    months: list[date]
    unmapped_consumers: int
    unmapped_plans: int
    waiting: int
    sent: int
    accepted: int
    refused: int
    accepted_at: datetime | None
    next_at: datetime
    trouble: Trouble | None


@dataclass(frozen=True, slots=True, kw_only=True)
class OutsideWordView:
    """What the outside said by itself, and what was done about it."""

    id: int
    kind: str
    customer: str
    consumer_id: int | None
    consumer: str
    at: datetime
    heard_at: datetime
    done: bool
    outcome: str


def handoff(ctx: Context, *, connected: bool) -> HandoffView:
    """The handoff in a few figures."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        counts = dict(session.execute(select(HandedUnits.state, func.count()).group_by(HandedUnits.state)).all())
        return HandoffView(
            connected=connected,
            products=products.listed(session),
            months=sums.months(session, ctx),
            unmapped_consumers=mapped.unmapped_consumers(session),
            unmapped_plans=mapped.unmapped_plans(session),
            waiting=counts.get("waiting", 0),
            sent=counts.get("sent", 0),
            accepted=counts.get("accepted", 0),
            refused=counts.get("refused", 0),
            accepted_at=session.scalar(select(func.max(HandedBatch.answered_at)).where(HandedBatch.accepted > 0)),
            next_at=moment_of(next_due(ctx.now_us)),
            trouble=_trouble(session),
        )


def words(ctx: Context, wanted: PageQuery) -> Page[OutsideWordView]:
    """A page of what the outside said by itself. Orders: newest, oldest."""
    ctx.actor.must_be(*ROLES)
    query = select(OutsideWord, Consumer.name).outerjoin(Consumer, Consumer.id == OutsideWord.consumer_id)
    if wanted.words:
        sought = (Consumer.name, OutsideWord.customer, OutsideWord.outcome)
        query = query.where(or_(*(column.contains(wanted.words, autoescape=True) for column in sought)))
    with ctx.reading() as session:
        orders = {"newest": -OutsideWord.id, "oldest": OutsideWord.id}
        found = page(session, query, OutsideWord.id, orders, wanted)
        rows = [
            OutsideWordView(
                id=of.id,
                kind=of.kind,
                customer=of.customer,
                consumer_id=of.consumer_id,
                consumer=consumer or "",
                at=of.at,
                heard_at=of.heard_at,
                done=of.done,
                outcome=of.outcome,
            )
            for of, consumer in found.rows
        ]
        return Page(rows, found.next, found.total)


def _trouble(session: Session) -> Trouble | None:
    job = jobs.of(session, handing_on.HAND_ON, [handing_on.SUBJECT]).get(handing_on.SUBJECT)
    if job is None or not job.last_error:
        return None
    return Trouble(said=job.last_error.removeprefix("NotTaken: "), tries=job.attempts, next_at=job.run_at)
