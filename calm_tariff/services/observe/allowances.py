"""Allowances: how far each is used, and where it will stand at its window's end."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from decimal import Decimal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.forecast import LOOK_BACK_WEEKS, WEEK_HOURS, projected
from calm_tariff.core.limits import Quota
from calm_tariff.core.periods import HOUR, calendar_window, instant_of, moment_of, subscription_window, zone
from calm_tariff.core.sentences import limit_sentence, words
from calm_tariff.services.base.context import ROLES, Context, provider_of
from calm_tariff.services.serve import standing
from calm_tariff.store.admit.applications import ApiKey
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.paging import Page, PageQuery, listed
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.serve import quota_queries, usage_queries

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


@dataclass(frozen=True, slots=True, kw_only=True)
class Held:
    """A quota of a subscription, in the window that is open now, and how much of it is used. `scope` names its
    count; of quotas counted per key or per value it is the fullest count that is shown."""

    subscription_id: int
    application_id: int
    consumer_id: int
    plan_id: int
    quota: Quota
    meter_id: int
    scope: str
    window: tuple[int, int]
    used: Decimal = ZERO

    @property
    def percent(self) -> int:
        return int(self.used * 100 // Decimal(self.quota.units))


def everyone(ctx: Context, wanted: PageQuery) -> Page[Gauge]:
    """A page of every allowance, the fullest first; words narrow it to consumers named so. Only those of the page
    are projected."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        held = standing_of(session, ctx.now)
        if wanted.words:
            named = func.lower(Consumer.name).contains(wanted.words.lower(), autoescape=True)
            meant = set(session.scalars(select(Consumer.id).where(named)))
            held = [h for h in held if h.consumer_id in meant]
        found = listed(held, replace(wanted, words=""), {"fullest": _fullest})
        return Page(_gauges(session, ctx.now, found.rows), found.next, found.total)


def own(ctx: Context) -> list[Gauge]:
    """The signed-in consumer's allowances."""
    with ctx.reading() as session:
        return of_consumer(session, ctx.now, ctx.actor.own_consumer)


def of_consumer(session: Session, now: datetime, consumer_id: int) -> list[Gauge]:
    """A consumer's allowances."""
    return _gauges(session, now, standing_of(session, now, consumer_id))


def nearly_spent(session: Session, now: datetime, percent: int) -> int:
    """How many allowances are used to so many percent."""
    return sum(h.percent >= percent for h in standing_of(session, now))


def running_out(session: Session, now: datetime, percent: int, at_most: int) -> list[Gauge]:
    """Allowances that refuse when spent and are used to so many percent, or will be spent before their window
    ends: the fullest `at_most`. Looks for them among the fullest 200 of which anything is used."""
    used = (h for h in standing_of(session, now) if h.quota.when_spent == "refuse" and h.used)
    firm = sorted(used, key=_fullest)
    found: list[Gauge] = []
    for start in range(0, min(len(firm), 200), 20):
        gauges = _gauges(session, now, firm[start : start + 20])
        found += [g for g in gauges if g.percent >= percent or g.spent_at is not None]
        if len(found) >= at_most:
            break
    return found[:at_most]


def _fullest(held: Held) -> tuple[int, int, str]:
    return (-held.percent, held.subscription_id, held.quota.name)


def standing_of(session: Session, now: datetime, consumer_id: int | None = None) -> list[Held]:
    """Every quota that holds now, or a consumer's, in a handful of queries whatever their number."""
    found = standing.quotas(session, now, consumer_id)
    now_us = instant_of(now)
    where = zone(provider_of(session).time_zone)
    meters = dict(session.execute(select(Meter.key, Meter.id)).all())
    calendar: dict[str, tuple[int, int]] = {}
    held = []
    for each in found:
        quota = each.quota
        if quota.meter is not None and quota.meter not in meters:
            continue
        if quota.aligned == "calendar":
            if quota.every not in calendar:
                calendar[quota.every] = calendar_window(quota.every, now_us, where)
            window = calendar[quota.every]
        else:
            window = subscription_window(quota.every, now_us, each.started_us, where)
        held.append(
            Held(
                subscription_id=each.subscription_id,
                application_id=each.application_id,
                consumer_id=each.consumer_id,
                plan_id=each.plan_id,
                quota=quota,
                meter_id=meters[quota.meter] if quota.meter else 0,
                scope=each.scope,
                window=window,
            )
        )
    return _used(session, now_us, held, narrow=consumer_id is not None)


def _used(session: Session, now_us: int, held: list[Held], narrow: bool) -> list[Held]:
    """The same with what is used: exactly the counts that decide."""
    scopes = {h.scope for h in held} if narrow else None
    counts: dict[str, dict[str, Decimal]] = {}
    for kept in quota_queries.open_at(session, now_us, scopes):
        counts.setdefault(kept.scope, {})[kept.subject] = kept.units
    wanted = {h.application_id for h in held if h.quota.counted_per not in _NAMED}
    keys: dict[int, set[str]] = {}
    if wanted:
        for application, key in session.execute(
            select(ApiKey.application_id, ApiKey.id).where(ApiKey.application_id.in_(wanted))
        ):
            keys.setdefault(application, set()).add(str(key))
    return [replace(h, used=_count(h, counts.get(h.scope, {}), keys.get(h.application_id, set()))) for h in held]


_NAMED = ("application", "consumer", "subscription", "everyone")


def _count(held: Held, of: dict[str, Decimal], keys: set[str]) -> Decimal:
    """The count that a quota stands at for one subscription: of several, the fullest."""
    per = held.quota.counted_per
    if per in _NAMED:
        subject = {
            "application": str(held.application_id),
            "consumer": str(held.consumer_id),
            "subscription": str(held.subscription_id),
            "everyone": "",
        }[per]
        return of.get(subject, ZERO)
    own = keys | {f"application {held.application_id}"}
    if per != "key":
        own = {f"key {key}" for key in own}
    lead = "= " if held.quota.across_consumers else f"{held.consumer_id} = "
    values = (units for subject, units in of.items() if subject in own or (per != "key" and subject.startswith(lead)))
    return max(values, default=ZERO)


def _gauges(session: Session, now: datetime, held: Sequence[Held]) -> list[Gauge]:
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
        ahead = projected(h.used, units, h.window, now_us, hourly=hourly.get(key, {}), first_call=firsts.get(key))
        made.append(
            Gauge(
                subscription_id=of.id,
                consumer_id=h.consumer_id,
                consumer=of.application.consumer.name,
                application=of.application.name,
                product=of.plan.product.name,
                plan=of.plan.name,
                name=quota.name,
                meter_id=h.meter_id,
                sentence=words(limit_sentence(quota)),
                used=h.used,
                units=units,
                percent=h.percent,
                when_spent=quota.when_spent,
                window_start=moment_of(h.window[0]),
                window_end=moment_of(h.window[1]),
                projected_units=Decimal(round(ahead.at_end)),
                spent_at=moment_of(ahead.spent_at) if ahead.spent_at else None,
            )
        )
    return made
