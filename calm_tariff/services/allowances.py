"""Allowances: how far each is used, and where it will stand at its window's end."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

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
from calm_tariff.store.catalogue import Meter

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


def everyone(ctx: Context) -> list[Gauge]:
    """Every allowance, the fullest first."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        return sorted(gauges(session, ctx.now), key=lambda g: (-g.percent, g.consumer))


def own(ctx: Context) -> list[Gauge]:
    """The signed-in consumer's allowances."""
    with ctx.transaction() as session:
        return gauges(session, ctx.now, [ctx.actor.own_consumer])


def gauges(
    session: Session, now: datetime, consumers: Sequence[int] | None = None, at_least: int = 0, firm: bool = False
) -> list[Gauge]:
    """Allowances as recorded, in a handful of queries whatever their number; only those used to `at_least`
    percent, and only `firm` ones that refuse when spent."""
    query = (
        select(Subscription, Stay)
        .join(Stay, Stay.subscription_id == Subscription.id)
        .join(Application, Application.id == Subscription.application_id)
        .where(Subscription.state.in_(CALLING), Stay.start_at <= now, Stay.end_at.is_(None) | (Stay.end_at > now))
        .options(selectinload(Subscription.plan))
    )
    if consumers is not None:
        query = query.where(Application.consumer_id.in_(consumers))
    now_us = instant_of(now)
    where = zone(provider_of(session).time_zone)
    meters = dict(session.execute(select(Meter.key, Meter.id)).all())
    found: list[tuple[Subscription, Quota, tuple[int, int]]] = []
    for subscription, stay in session.execute(query):
        for limit in read(PlanTerms, stay.revision.terms).limits:
            if isinstance(limit, Quota) and limit.meter in meters:
                start = instant_of(subscription.started_at)
                window = (
                    calendar_window(limit.every, now_us, where)
                    if limit.aligned == "calendar"
                    else subscription_window(limit.every, now_us, start, where)
                )
                found.append((subscription, limit, window))
    if not found:
        return []
    counted = _used(session, found, meters, now_us)

    def used_of(subscription: Subscription, quota: Quota, window: tuple[int, int]) -> Decimal:
        return counted[_subject(subscription, quota), meters[quota.meter or ""], window]

    found = [
        f for f in found if used_of(*f) * 100 >= at_least * f[1].units and (not firm or f[1].when_spent == "refuse")
    ]
    if not found:
        return []
    earliest = min(now_us - (LOOK_BACK_WEEKS + 1) * WEEK_HOURS * HOUR, *(w[0] for _, _, w in found))
    hourly = usage_queries.hourly_units_of_all(session, earliest, {s.id for s, _, _ in found})
    firsts = usage_queries.first_hours(session)
    made = []
    for subscription, quota, window in found:
        meter = meters[quota.meter or ""]
        key = (subscription.id, meter)
        used = used_of(subscription, quota, window)
        ahead = projected(used, Decimal(quota.units), window, now_us, hourly.get(key, {}), firsts.get(key))
        made.append(
            Gauge(
                subscription.id, subscription.application.consumer_id, subscription.application.consumer.name,
                subscription.application.name, subscription.plan.product.name, subscription.plan.name, quota.name,
                meter, words(limit_sentence(quota)), used, Decimal(quota.units), int(used * 100 // quota.units),
                quota.when_spent, moment_of(window[0]), moment_of(window[1]), Decimal(round(ahead.at_end)),
                moment_of(ahead.spent_at) if ahead.spent_at else None,
            )
        )  # fmt: skip
    return made


def _subject(subscription: Subscription, quota: Quota) -> tuple[str, int]:
    """Whose count an allowance is; a key's own count is shown for all keys of the application."""
    if quota.counted_per == "everyone":
        return ("everyone", subscription.plan_id)
    if quota.counted_per == "consumer":
        return ("consumer", subscription.application.consumer_id)
    return ("subscription", subscription.id)


def _used(
    session: Session,
    found: list[tuple[Subscription, Quota, tuple[int, int]]],
    meters: dict[str, int],
    now_us: int,
) -> dict[tuple[tuple[str, int], int, tuple[int, int]], Decimal]:
    """Units by subject, meter and window; each distinct window is read once."""
    sums: dict[tuple[tuple[str, int], int, tuple[int, int]], Decimal] = {}
    windows: dict[tuple[int, int], list[tuple[Subscription, Quota]]] = {}
    for subscription, quota, window in found:
        windows.setdefault(window, []).append((subscription, quota))
        sums[_subject(subscription, quota), meters[quota.meter or ""], window] = ZERO
    for window, members in windows.items():
        wanted = {s.id: s for s, _ in members}
        span = window[0], min(window[1], now_us + 1)
        units = usage_queries.units_by_subscription(session, *span, list(wanted))
        for subject, meter in {(_subject(s, q), meters[q.meter or ""]) for s, q in members}:
            sums[subject, meter, window] = sum(
                (n for (sub, m), n in units.items() if m == meter and _belongs(wanted[sub], subject)), ZERO
            )
    return sums


def _belongs(subscription: Subscription, subject: tuple[str, int]) -> bool:
    kind, identifier = subject
    if kind == "everyone":
        return subscription.plan_id == identifier
    if kind == "consumer":
        return subscription.application.consumer_id == identifier
    return subscription.id == identifier
