"""Allowances: how far each is used, and where it will stand at its window's end."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.forecast import LOOK_BACK_WEEKS, WEEK_HOURS, projected
from calm_tariff.core.lifecycles import CALLING
from calm_tariff.core.limits import Quota
from calm_tariff.core.periods import HOUR, calendar_window, instant_of, moment_of, subscription_window, zone
from calm_tariff.core.sentences import limit_sentence, words
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.context import ROLES, Context, provider_of
from calm_tariff.store import usage_queries
from calm_tariff.store.admission import Application, Stay, Subscription
from calm_tariff.store.catalogue import Meter, PlanRevision
from calm_tariff.store.paging import Page, Wanted, listed
from calm_tariff.store.people import Consumer

ZERO = Decimal(0)


@dataclass(frozen=True, slots=True)
class Gauge:
    """One allowance. `projected_units` at the window's end; `spent_at` when it will be, or was, spent."""

    subscription_id: int
    consumer_id: int
    consumer: str
    application: str
    product: str
    plan: str
    name: str
    meter_id: int
    sentence: str
    used: Decimal
    units: Decimal
    percent: int
    when_spent: str
    window_start: datetime
    window_end: datetime
    projected_units: Decimal
    spent_at: datetime | None


@dataclass(frozen=True, slots=True)
class _Held:
    """A quota of a subscription, in the window that is open now, and how much of it is used."""

    subscription_id: int
    consumer_id: int
    plan_id: int
    quota: Quota
    meter_id: int
    window: tuple[int, int]
    used: Decimal = ZERO

    @property
    def percent(self) -> int:
        return int(self.used * 100 // self.quota.units)

    @property
    def subject(self) -> tuple[int, ...]:
        """Whose count it is within the plan; a key's own count is shown for all keys of the application."""
        if self.quota.counted_per == "everyone":
            return (self.plan_id,)
        if self.quota.counted_per == "consumer":
            return (self.plan_id, self.consumer_id)
        return (self.plan_id, self.consumer_id, self.subscription_id)


def everyone(ctx: Context, wanted: Wanted) -> Page[Gauge]:
    """A page of every allowance, the fullest first; words narrow it to consumers named so. Only those of the page
    are projected."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        held = _held(session, ctx.now)
        if wanted.words:
            named = func.lower(Consumer.name).contains(wanted.words.lower(), autoescape=True)
            meant = set(session.scalars(select(Consumer.id).where(named)))
            held = [h for h in held if h.consumer_id in meant]
        found = listed(held, replace(wanted, words=""), {"fullest": _fullest})
        return Page(_gauges(session, ctx.now, found.rows), found.next, found.total)


def own(ctx: Context) -> list[Gauge]:
    """The signed-in consumer's allowances."""
    with ctx.transaction() as session:
        return of_consumer(session, ctx.now, ctx.actor.own_consumer)


def of_consumer(session: Session, now: datetime, consumer_id: int) -> list[Gauge]:
    """A consumer's allowances."""
    return _gauges(session, now, _held(session, now, consumer_id))


def nearly_spent(session: Session, now: datetime, percent: int) -> int:
    """How many allowances are used to so many percent."""
    return sum(h.percent >= percent for h in _held(session, now))


def running_out(session: Session, now: datetime, percent: int, at_most: int) -> list[Gauge]:
    """Allowances that refuse when spent and are used to so many percent, or will be spent before their window
    ends: the fullest `at_most`. Looks for them among the fullest 200."""
    firm = sorted((h for h in _held(session, now) if h.quota.when_spent == "refuse"), key=_fullest)
    found: list[Gauge] = []
    for start in range(0, min(len(firm), 200), 20):
        gauges = _gauges(session, now, firm[start : start + 20])
        found += [g for g in gauges if g.percent >= percent or g.spent_at is not None]
        if len(found) >= at_most:
            break
    return found[:at_most]


def _fullest(held: _Held) -> tuple[int, int, str]:
    return (-held.percent, held.subscription_id, held.quota.name)


def _held(session: Session, now: datetime, consumer_id: int | None = None) -> list[_Held]:
    """Every quota that holds now, or a consumer's, in a handful of queries whatever their number."""
    running = (
        select(
            Subscription.id, Subscription.plan_id, Subscription.started_at, Application.consumer_id, Stay.revision_id
        )
        .join(Stay, Stay.subscription_id == Subscription.id)
        .join(Application, Application.id == Subscription.application_id)
        .where(Subscription.state.in_(CALLING), Stay.start_at <= now, Stay.end_at.is_(None) | (Stay.end_at > now))
    )
    if consumer_id is None:
        return _used(session, _quotas(session, now, running))
    held = _quotas(session, now, running.where(Application.consumer_id == consumer_id))
    shared = {h.plan_id for h in held if h.quota.counted_per == "everyone"}
    if shared:  # what the others on the plan use counts, too
        others = running.where(Application.consumer_id != consumer_id, Subscription.plan_id.in_(shared))
        held += _quotas(session, now, others)
    return [h for h in _used(session, held) if h.consumer_id == consumer_id]


def _quotas(session: Session, now: datetime, running: Any) -> list[_Held]:
    """The quotas of these running subscriptions, nothing of them counted yet."""
    now_us = instant_of(now)
    where = zone(provider_of(session).time_zone)
    meters = dict(session.execute(select(Meter.key, Meter.id)).all())
    rows = session.execute(running).all()
    revisions = select(PlanRevision.id, PlanRevision.terms).where(PlanRevision.id.in_({r.revision_id for r in rows}))
    quotas = {
        revision: [q for q in read(PlanTerms, terms).limits if isinstance(q, Quota) and q.meter in meters]
        for revision, terms in session.execute(revisions)
    }
    calendar: dict[str, tuple[int, int]] = {}
    held = []
    for subscription, plan, started_at, consumer, revision in rows:
        for quota in quotas[revision]:
            if quota.aligned == "calendar":
                if quota.every not in calendar:
                    calendar[quota.every] = calendar_window(quota.every, now_us, where)
                window = calendar[quota.every]
            else:
                window = subscription_window(quota.every, now_us, instant_of(started_at), where)
            held.append(_Held(subscription, consumer, plan, quota, meters[quota.meter or ""], window))
    return held


def _used(session: Session, held: list[_Held]) -> list[_Held]:
    """The same with what is used; each distinct window is read once, and each subject's sum made once."""
    windows: dict[tuple[int, int], list[_Held]] = {}
    for h in held:
        windows.setdefault(h.window, []).append(h)
    sums: dict[tuple[tuple[int, int], int, tuple[int, ...]], Decimal] = {}
    for window, members in windows.items():
        units = usage_queries.units_by_subscription(session, *window, list({h.subscription_id for h in members}))
        # A subscription's units go to each subject it stands under, once, however many of its quotas count there.
        places = {(h.subscription_id, h.meter_id, h.subject) for h in members}
        for subscription, meter, subject in places:
            place = (window, meter, subject)
            sums[place] = sums.get(place, ZERO) + units.get((subscription, meter), ZERO)
    return [replace(h, used=sums[h.window, h.meter_id, h.subject]) for h in held]


def _gauges(session: Session, now: datetime, held: Sequence[_Held]) -> list[Gauge]:
    """These allowances with their names and projections, in their order."""
    if not held:
        return []
    now_us = instant_of(now)
    wanted = {h.subscription_id for h in held}
    subscriptions = {s.id: s for s in session.scalars(select(Subscription).where(Subscription.id.in_(wanted)))}
    earliest = min(now_us - (LOOK_BACK_WEEKS + 1) * WEEK_HOURS * HOUR, *(h.window[0] for h in held))
    hourly = usage_queries.hourly_units_of_all(session, earliest, wanted)
    firsts = usage_queries.first_hours(session, wanted)
    made = []
    for h in held:
        quota, units, of = h.quota, Decimal(h.quota.units), subscriptions[h.subscription_id]
        key = (h.subscription_id, h.meter_id)
        ahead = projected(h.used, units, h.window, now_us, hourly.get(key, {}), firsts.get(key))
        made.append(
            Gauge(
                of.id, h.consumer_id, of.application.consumer.name, of.application.name, of.plan.product.name,
                of.plan.name, quota.name, h.meter_id, words(limit_sentence(quota)), h.used, units, h.percent,
                quota.when_spent, moment_of(h.window[0]), moment_of(h.window[1]), Decimal(round(ahead.at_end)),
                moment_of(ahead.spent_at) if ahead.spent_at else None,
            )
        )  # fmt: skip
    return made
