"""From stays and recorded usage to rating cases: what invoices, running charges and forecasts share."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import and_, select
from sqlalchemy.orm import Session, lazyload, selectinload

from calm_tariff.core import stays
from calm_tariff.core.periods import Period, day_start, moment_of, zone
from calm_tariff.core.rating import Pricing, RatingCase, Segment
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.admit import timelines
from calm_tariff.services.base.context import provider_of
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan, PlanRevision
from calm_tariff.store.serve import usage_queries


@dataclass(frozen=True, slots=True, kw_only=True)
class CaseSegment:
    """Where a segment of a case comes from. `start` and `end` are its part inside the period."""

    subscription_id: int
    revision_id: int
    stay_id: int
    plan_id: int
    start: datetime
    end: datetime


@dataclass(frozen=True, slots=True)
class ConsumerCase:
    """All that one consumer is charged for in one period. `segments` run beside `case.segments`."""

    consumer_id: int
    consumer: str
    case: RatingCase
    segments: tuple[CaseSegment, ...]

    def with_pricing(self, drafts: Mapping[int, Pricing]) -> RatingCase:
        """The same usage under other prices, by plan."""
        segments = tuple(
            Segment(
                start=s.start,
                end=s.end,
                plan=drafts.get(origin.plan_id, s.plan),
                first=s.first,
                trial=s.trial,
                usage=s.usage,
            )
            for s, origin in zip(self.case.segments, self.segments, strict=True)
        )
        return RatingCase(
            currency=self.case.currency,
            time_zone=self.case.time_zone,
            period=self.case.period,
            tax_percent=self.case.tax_percent,
            segments=segments,
        )


def cases(
    session: Session,
    period: Period,
    consumers: Sequence[int] | None = None,
    product_id: int | None = None,
) -> list[ConsumerCase]:
    """The rating case of every consumer with a stay in the period, in a handful of queries.

    Only what is counted so far: for a running period this is its running charge.
    """
    provider = provider_of(session)
    where = zone(provider.time_zone)
    begin_us, end_us = day_start(period.start, where), day_start(period.end, where)
    begin, end = moment_of(begin_us), moment_of(end_us)
    subscriptions = _subscriptions(session, begin, end, consumers, product_id)
    if not subscriptions:
        return []
    units = usage_queries.units_by_stay(session, begin_us, end_us, [s.id for s in subscriptions])
    keys = dict(session.execute(select(Meter.id, Meter.key)).all())
    usage: dict[int, dict[str, Decimal]] = {}
    for (stay_id, meter), amount in units.items():
        usage.setdefault(stay_id, {})[keys[meter]] = amount
    terms: dict[int, PlanTerms] = {}
    found: dict[int, list[tuple[Subscription, Stay]]] = {}
    first: dict[int, int] = {}
    for subscription in subscriptions:
        charged = stays.first_charged(timelines.of(subscription))
        if charged is not None:
            first[subscription.id] = charged.id
        for stay in subscription.stays:
            if stay.end_at == stay.start_at:
                continue  # overtaken by a trial's end (core.stays)
            if stay.start_at < end and (stay.end_at is None or stay.end_at > begin):
                found.setdefault(subscription.application.consumer_id, []).append((subscription, stay))
    made = []
    for consumer_id, parts in found.items():
        segments, origins = [], []
        for subscription, stay in parts:
            revision = stay.revision
            if revision.id not in terms:
                terms[revision.id] = read(PlanTerms, revision.terms)
            ended = _earlier(stay.end_at, subscription.ended_at)
            segments.append(
                Segment(
                    start=stay.start_at.astimezone(where),
                    end=ended.astimezone(where) if ended else None,
                    plan=terms[revision.id].pricing,
                    trial=stay.trial,
                    usage=usage.get(stay.id, {}),
                    first=stay.id == first.get(subscription.id) and stay.start_at >= begin,
                )
            )
            origins.append(
                CaseSegment(
                    subscription_id=subscription.id,
                    revision_id=revision.id,
                    stay_id=stay.id,
                    plan_id=revision.plan_id,
                    start=max(stay.start_at, begin),
                    end=min(ended or end, end),
                )
            )
        case = RatingCase(
            currency=provider.currency,
            time_zone=provider.time_zone,
            period=period,
            tax_percent=provider.tax_percent.normalize(),
            segments=tuple(segments),
        )
        name = parts[0][0].application.consumer.name
        made.append(ConsumerCase(consumer_id, name, case, tuple(origins)))
    return sorted(made, key=lambda c: c.consumer)


def plans_in(session: Session, period: Period) -> dict[int, list[int]]:
    """The plans each consumer had a stay on in a period, by consumer."""
    where = zone(provider_of(session).time_zone)
    begin, end = (moment_of(day_start(day, where)) for day in (period.start, period.end))
    query = (
        select(Application.consumer_id, PlanRevision.plan_id)
        .join(Subscription, Subscription.application_id == Application.id)
        .join(Stay, Stay.subscription_id == Subscription.id)
        .join(PlanRevision, PlanRevision.id == Stay.revision_id)
        .where(
            *(
                _overlaps(begin, end, s, e)
                for s, e in (
                    (Subscription.started_at, Subscription.ended_at),
                    (Stay.start_at, Stay.end_at),
                )
            )
        )
        .order_by(Subscription.id, Stay.start_at)
    )
    found: dict[int, list[int]] = {}
    for consumer, plan in session.execute(query):
        found.setdefault(consumer, []).append(plan)
    return found


def _subscriptions(
    session: Session, begin: datetime, end: datetime, consumers: Sequence[int] | None, product_id: int | None
) -> Sequence[Subscription]:
    query = (
        select(Subscription)
        .where(_overlaps(begin, end, Subscription.started_at, Subscription.ended_at))
        # Plans and revisions are few: each is read once, not beside every subscription and stay.
        .options(lazyload(Subscription.plan), selectinload(Subscription.stays).lazyload(Stay.revision))
        .order_by(Subscription.id)
    )
    if consumers is not None:
        query = query.join(Application).where(Application.consumer_id.in_(consumers))
    if product_id is not None:
        query = query.where(Subscription.plan_id.in_(select(Plan.id).where(Plan.product_id == product_id)))
    return session.scalars(query).all()


def _overlaps(begin: datetime, end: datetime, start: Any, stop: Any) -> Any:
    return and_(start < end, stop.is_(None) | (stop > begin))


def _earlier(one: datetime | None, other: datetime | None) -> datetime | None:
    return min((m for m in (one, other) if m), default=None)
