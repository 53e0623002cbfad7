"""The sums on both sides: what is recorded of a month's hours, what was accepted outside, what waits, what is not made
yet, and what the outside says it has.

Source: docs/arithmetic.md, section 8.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date
from decimal import Decimal

from sqlalchemy import case, func, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict
from calm_tariff.core.periods import (
    HOUR,
    Period,
    day_start,
    instant_of,
    local_day,
    moment_of,
    month_of,
    month_starting,
    month_step,
)
from calm_tariff.core.prices import ZERO
from calm_tariff.services.base.context import ROLES, Context, zone_of
from calm_tariff.services.base.outside_billing import OutsideBilling
from calm_tariff.services.settle.handoff import revising
from calm_tariff.services.settle.handoff.revising import Span
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.paging import Page, PageQuery, listed
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan, Product
from calm_tariff.store.serve import usage_queries
from calm_tariff.store.settle.handoff import HandedUnits

# By subscription and meter.
Key = tuple[int, int]


@dataclass(frozen=True, slots=True, kw_only=True)
class HandedSums:
    """Units of one meter of one subscription in a month: recorded, accepted outside, waiting here (refused ones among
    them), and still to be made into something that waits, because their hour is not due or they have just come."""

    recorded: Decimal = ZERO
    accepted: Decimal = ZERO
    waiting: Decimal = ZERO

    @property
    def to_come(self) -> Decimal:
        """What nothing was made of yet; below 0 where less is recorded by now."""
        return self.recorded - self.accepted - self.waiting


@dataclass(frozen=True, slots=True, kw_only=True)
class HandedSumsRow:
    """The sums of one meter of one subscription in a month, between two instants, and what the outside has of it, where
    it was asked."""

    subscription_id: int
    consumer_id: int
    consumer: str
    application: str
    plan: str
    meter_id: int
    meter: str
    recorded: Decimal
    accepted: Decimal
    waiting: Decimal
    to_come: Decimal
    outside: Decimal | None
    agrees: bool
    since_us: int
    until_us: int


def of_month(
    ctx: Context, start: date, wanted: PageQuery, billing: OutsideBilling | None = None
) -> Page[HandedSumsRow]:
    """A page of a month's sums, with what the outside has, where it is asked: those that do not agree first. Orders:
    differing, consumer. Raises `Invalid` for what is no month, and `Away`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        period, where = month_starting(start), zone_of(session)
        begin, end = (moment_of(day_start(day, where)) for day in (period.start, period.end))
        found = summed(session, period)
        keys = dict(session.execute(select(Meter.key, Meter.id)).all())
    theirs: dict[Key, Decimal] | None = None
    if billing is not None:
        said = billing.sums(begin, end)
        theirs = {(each.subscription_id, keys.get(each.meter, 0)): each.units for each in said}
        found = {key: found.get(key, HandedSums()) for key in {*found, *theirs}}
    with ctx.reading() as session:
        span = instant_of(begin), instant_of(end)
        rows = list(_rows(session, span, found, theirs))
    orders = {
        "consumer": lambda row: (row.consumer.lower(), row.application, row.meter),
        "differing": lambda row: (row.agrees, row.consumer.lower(), row.application, row.meter),
    }
    return listed(rows, wanted, orders)


def connected(billing: OutsideBilling | None) -> OutsideBilling:
    """Whoever bills outside. Raises `Conflict` where nobody does."""
    if billing is None:
        raise Conflict("none is connected to this installation (CALM_OUTSIDE_BILLING)", "outside billing")
    return billing


def months(session: Session, ctx: Context) -> list[date]:
    """The months, up to the running one, in which something is billed outside, the latest first."""
    spans = revising.spans(session)
    if not spans:
        return []
    where = zone_of(session)
    last = month_of(local_day(ctx.now_us, where)).start
    found: set[date] = set()
    for span in spans:
        month = local_day(span.begin_us, where)
        while month <= last and (span.end_us is None or day_start(month, where) < span.end_us):
            found.add(month)
            month = month_step(month, 1)
    return sorted(found, reverse=True)


def summed(session: Session, period: Period) -> dict[Key, HandedSums]:
    """The sums of a period, by subscription and meter."""
    spans, found = revising.spans(session), dict[Key, HandedSums]()
    if not spans:
        return found
    where = zone_of(session)
    begin, end = day_start(period.start, where), day_start(period.end, where)
    for span in spans:
        if span.begin_us <= begin and (span.end_us is None or span.end_us >= end):
            found.update(_of_span(session, span, begin, end))
    return found


def _of_span(session: Session, span: Span, begin: int, end: int) -> Iterator[tuple[Key, HandedSums]]:
    """A month's hours are those that begin in it, and where it begins within one the part that is billed outside."""
    first = begin if span.begin_us == begin else begin // HOUR * HOUR
    last = end if span.end_us == end else end // HOUR * HOUR
    mine = list(session.scalars(revising.subscriptions_of(span.product_id)))
    recorded = usage_queries.units_by_subscription(session, first, last, mine)
    accepted = HandedUnits.state == "accepted"
    query = (
        select(
            HandedUnits.subscription_id,
            HandedUnits.meter_id,
            func.sum(case((accepted, HandedUnits.units), else_=0)),
            func.sum(case((accepted, 0), else_=HandedUnits.units)),
        )
        .where(HandedUnits.hour_us >= first // HOUR * HOUR, HandedUnits.hour_us < last)
        .where(HandedUnits.subscription_id.in_(revising.subscriptions_of(span.product_id)))
        .group_by(HandedUnits.subscription_id, HandedUnits.meter_id)
    )
    told = {(of, meter): (taken, waits) for of, meter, taken, waits in session.execute(query)}
    for key in sorted({*recorded, *told}):
        taken, waits = told.get(key, (ZERO, ZERO))
        yield key, HandedSums(recorded=recorded.get(key, ZERO), accepted=taken, waiting=waits)


def _rows(
    session: Session, span: tuple[int, int], found: dict[Key, HandedSums], theirs: dict[Key, Decimal] | None
) -> Iterator[HandedSumsRow]:
    named = (
        select(Subscription.id, Consumer.id, Consumer.name, Application.name, Product.name, Plan.name)
        .join(Application, Application.id == Subscription.application_id)
        .join(Consumer, Consumer.id == Application.consumer_id)
        .join(Plan, Plan.id == Subscription.plan_id)
        .join(Product, Product.id == Plan.product_id)
        .where(Subscription.id.in_({of for of, _ in found}))
    )
    names = {row[0]: row[1:] for row in session.execute(named)}
    meters = dict(session.execute(select(Meter.id, Meter.name)).all())
    for (of, meter), sums in found.items():
        consumer_id, consumer, application, product, plan = names.get(of, (0, "known to the outside alone", "", "", ""))
        has = None if theirs is None else theirs.get((of, meter), ZERO)
        yield HandedSumsRow(
            subscription_id=of,
            consumer_id=consumer_id,
            consumer=consumer,
            application=application,
            plan=f"{product} · {plan}" if plan else "",
            meter_id=meter,
            meter=meters.get(meter, ""),
            recorded=sums.recorded,
            accepted=sums.accepted,
            waiting=sums.waiting,
            to_come=sums.to_come,
            outside=has,
            agrees=has is None or has == sums.accepted,
            since_us=span[0],
            until_us=span[1],
        )
