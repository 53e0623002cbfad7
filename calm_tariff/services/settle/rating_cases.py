"""From stays and recorded usage to rating cases: what invoices, running charges and forecasts share."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from decimal import Decimal
from types import MappingProxyType
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import and_, select
from sqlalchemy.orm import Session

from calm_tariff.core import stays
from calm_tariff.core.billing.documents import tax
from calm_tariff.core.billing.documents.tax import Rate, Treatment
from calm_tariff.core.periods import Period, day_start, instant_of, moment_of, zone
from calm_tariff.core.rating import Paused, Pricing, RatingCase, Segment
from calm_tariff.core.stays import Pause, Stay, Timeline
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.admit import timelines
from calm_tariff.services.base.context import provider_of
from calm_tariff.store.admit import merged
from calm_tariff.store.admit.applications import Application, ApplicationBefore
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.admit.subscriptions import Stay as StoredStay
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.provider import Provider
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan, PlanRevision
from calm_tariff.store.serve import usage_queries
from calm_tariff.store.settle.handoff import plans_billed_outside


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
    """All that one consumer is charged for in one period, and how its lines are taxed where their plan does not exempt
    them. `segments` run beside `case.segments`."""

    consumer_id: int
    consumer: str
    case: RatingCase
    segments: tuple[CaseSegment, ...]
    treatment: Treatment = "standard"

    def with_pricing(self, drafts: Mapping[int, Pricing]) -> RatingCase:
        """The same usage under other prices, by plan."""
        return self._with(replace(s, plan=drafts.get(origin.plan_id, s.plan)) for s, origin in self._pairs)

    def without(self, taken: Mapping[tuple[int, str], Decimal]) -> RatingCase:
        """The same with fewer units, by stay and meter."""
        return self._with(
            replace(s, usage={m: units - taken.get((origin.stay_id, m), 0) for m, units in s.usage.items()})
            for s, origin in self._pairs
        )

    @property
    def _pairs(self) -> Iterable[tuple[Segment, CaseSegment]]:
        return zip(self.case.segments, self.segments, strict=True)

    def _with(self, segments: Iterable[Segment]) -> RatingCase:
        return replace(self.case, segments=tuple(segments))


@dataclass(frozen=True, slots=True, kw_only=True)
class Course:
    """The stays and pauses of one subscription."""

    stays: Timeline
    pauses: tuple[Pause, ...]


# Units in [start, end) of some subscriptions, by (stay, meter).
Counting = Callable[[Session, int, int, Sequence[int]], Mapping[tuple[int, int], Decimal]]
NO_TAX = Decimal(0)
NOTHING: Mapping[int, Course] = MappingProxyType({})


def cases(
    session: Session,
    period: Period,
    consumers: Sequence[int] | None = None,
    product_id: int | None = None,
    instead: Mapping[int, Course] = NOTHING,
    counted: Counting = usage_queries.units_by_stay,
) -> list[ConsumerCase]:
    """The rating case of every consumer with a stay in the period, in a handful of queries. A subscription's month is
    charged to whoever it belongs to at its end; one that is billed outside then is not charged here.

    Only what is counted so far: for a running period this is its running charge. `instead` are courses that some
    subscriptions would take in place of their own; `counted` reads the units in the period.
    """
    provider = provider_of(session)
    where = zone(provider.time_zone)
    begin_us, end_us = day_start(period.start, where), day_start(period.end, where)
    subscriptions = _subscriptions(session, period, consumers, product_id)
    if not subscriptions:
        return []
    owners = _owners(session, {s.application_id: s.consumer_id for s in subscriptions}, end_us)
    courses = _courses(session, subscriptions)
    units = counted(session, begin_us, end_us, [s.id for s in subscriptions])
    keys = dict(session.execute(select(Meter.id, Meter.key)).all())
    usage: dict[int, dict[str, Decimal]] = {}
    for (stay_id, meter), amount in units.items():
        usage.setdefault(stay_id, {})[keys[meter]] = amount
    found: dict[int, list[tuple[int, Stay, Course]]] = {}
    for subscription in subscriptions:
        course = instead.get(subscription.id) or courses[subscription.id]
        for stay in course.stays:
            if stay.end_us is not None and stay.end_us <= max(stay.start_us, begin_us):
                continue  # over before, or overtaken by a trial's end (core.stays)
            if stay.start_us < end_us:
                found.setdefault(owners[subscription.application_id], []).append((subscription.id, stay, course))
    if consumers is not None:
        found = {consumer: parts for consumer, parts in found.items() if consumer in consumers}
    named = select(Consumer.id, Consumer.name, Consumer.tax_treatment).where(Consumer.id.in_(found))
    of_consumer = {row.id: row for row in session.execute(named)}
    revisions = _revisions(session, {stay.revision_id for parts in found.values() for _, stay, _ in parts})
    percent = percent_of(provider, period)
    made = []
    for consumer_id, parts in found.items():
        segments, origins = [], []
        for subscription_id, stay, course in parts:
            revision = revisions[stay.revision_id]
            stop_us = end_us if stay.end_us is None else min(stay.end_us, end_us)
            rests = [p for p in course.pauses if p.start_us < stop_us and (p.end_us is None or p.end_us > begin_us)]
            segments.append(
                Segment(
                    start=moment_of(stay.start_us, where),
                    end=None if stay.end_us is None else moment_of(stay.end_us, where),
                    plan=revision.pricing,
                    trial=stay.trial,
                    usage=usage.get(stay.id, {}),
                    first=stay == stays.first_charged(course.stays) and stay.start_us >= begin_us,
                    pauses=tuple(_paused(p, where) for p in rests if p.end_us is None or p.end_us > stay.start_us),
                )
            )
            origins.append(
                CaseSegment(
                    subscription_id=subscription_id,
                    revision_id=stay.revision_id,
                    stay_id=stay.id,
                    plan_id=revision.plan_id,
                    start=moment_of(max(stay.start_us, begin_us)),
                    end=moment_of(stop_us),
                )
            )
        treatment = tax.treatment(of_consumer[consumer_id].tax_treatment)
        case = _case(provider, period, percent if treatment == "standard" else NO_TAX, segments)
        made.append(ConsumerCase(consumer_id, of_consumer[consumer_id].name, case, tuple(origins), treatment))
    return sorted(made, key=lambda c: c.consumer)


def case_of(provider: Provider, period: Period, treatment: Treatment, segments: Sequence[Segment] = ()) -> RatingCase:
    """The rating case of these segments, under the tax that holds on the period's last day for a consumer that is
    treated so."""
    return _case(provider, period, percent_of(provider, period) if treatment == "standard" else NO_TAX, segments)


def _case(provider: Provider, period: Period, percent: Decimal, segments: Sequence[Segment]) -> RatingCase:
    return RatingCase(
        currency=provider.currency,
        time_zone=provider.time_zone,
        period=period,
        tax_percent=percent.normalize(),
        segments=tuple(segments),
    )


def percent_of(provider: Provider, period: Period) -> Decimal:
    """The provider's standard percent of tax on a period's last day."""
    changes = read(tuple[Rate, ...], provider.tax_changes)
    return tax.percent_on(tax.rates(provider.tax_percent, changes), period.end - timedelta(days=1))


@dataclass(frozen=True, slots=True)
class _Revision:
    """Of which plan a revision is, and what it costs."""

    plan_id: int
    pricing: Pricing


def _revisions(session: Session, ids: Collection[int]) -> dict[int, _Revision]:
    query = select(PlanRevision.id, PlanRevision.plan_id, PlanRevision.terms).where(PlanRevision.id.in_(ids))
    found = session.execute(query)
    return {revision: _Revision(plan, read(PlanTerms, terms).pricing) for revision, plan, terms in found}


def course_of(subscription: Subscription) -> Course:
    """What a stored subscription has been through and will be, as far as it is known."""
    kept = tuple(timelines.stay_of(stored, subscription.ended_at) for stored in subscription.stays)
    return Course(stays=kept, pauses=timelines.pauses_of(subscription))


def _paused(pause: Pause, where: ZoneInfo) -> Paused:
    end = None if pause.end_us is None else moment_of(pause.end_us, where)
    return Paused(start=moment_of(pause.start_us, where), end=end)


def plans_in(session: Session, period: Period) -> dict[int, list[int]]:
    """The plans each consumer had a stay on in a period that is charged here, by consumer."""
    begin, end = _span(session, period)
    query = (
        select(Application.id, Application.consumer_id, PlanRevision.plan_id)
        .join(Subscription, Subscription.application_id == Application.id)
        .join(StoredStay, StoredStay.subscription_id == Subscription.id)
        .join(PlanRevision, PlanRevision.id == StoredStay.revision_id)
        .where(
            Subscription.plan_id.not_in(plans_billed_outside(period.start)),
            *(
                _overlaps(begin, end, s, e)
                for s, e in (
                    (Subscription.started_at, Subscription.ended_at),
                    (StoredStay.start_at, StoredStay.end_at),
                )
            ),
        )
        .order_by(Subscription.id, StoredStay.start_at)
    )
    rows = session.execute(query).all()
    owners = _owners(session, {row.id: row.consumer_id for row in rows}, instant_of(end))
    found: dict[int, list[int]] = {}
    for row in rows:
        found.setdefault(owners[row.id], []).append(row.plan_id)
    return found


def _owners(session: Session, of: Mapping[int, int], end_us: int) -> dict[int, int]:
    """Whose applications are at the end of a period, by application, given whose they are now."""
    before = merged.owners_before(session)
    return {
        application: next((b.consumer_id for b in before.get(application, ()) if b.end_us >= end_us), now)
        for application, now in of.items()
    }


def _span(session: Session, period: Period) -> tuple[datetime, datetime]:
    where = zone(provider_of(session).time_zone)
    return moment_of(day_start(period.start, where)), moment_of(day_start(period.end, where))


@dataclass(frozen=True, slots=True)
class _Subscribed:
    """A subscription as far as a charge asks for it, and whose it is now."""

    id: int
    ended_at: datetime | None
    application_id: int
    consumer_id: int


def _subscriptions(
    session: Session, period: Period, consumers: Sequence[int] | None, product_id: int | None
) -> list[_Subscribed]:
    query = (
        select(Subscription.id, Subscription.ended_at, Application.id, Application.consumer_id)
        .join(Application, Application.id == Subscription.application_id)
        .where(_overlaps(*_span(session, period), Subscription.started_at, Subscription.ended_at))
        .where(Subscription.plan_id.not_in(plans_billed_outside(period.start)))
        .order_by(Subscription.id)
    )
    if consumers is not None:
        were = select(ApplicationBefore.application_id).where(ApplicationBefore.consumer_id.in_(consumers))
        whose, before = Application.consumer_id.in_(consumers), session.scalars(were).all()
        query = query.where(whose | Application.id.in_(before) if before else whose)
    if product_id is not None:
        query = query.where(Subscription.plan_id.in_(select(Plan.id).where(Plan.product_id == product_id)))
    return [_Subscribed(*row) for row in session.execute(query)]


def _courses(session: Session, subscriptions: Sequence[_Subscribed]) -> dict[int, Course]:
    """What subscriptions have been through and will be, in two queries."""
    kept = timelines.of_all(session, {each.id: each.ended_at for each in subscriptions})
    pauses = timelines.pauses_of_all(session, kept)
    return {s.id: Course(stays=kept.get(s.id, ()), pauses=pauses.get(s.id, ())) for s in subscriptions}


def _overlaps(begin: datetime, end: datetime, start: Any, stop: Any) -> Any:
    return and_(start < end, stop.is_(None) | (stop > begin))
