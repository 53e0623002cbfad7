"""What an organisation used of a product last month: where an estimate begins for who is there already."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from decimal import ROUND_HALF_UP, Decimal

from sqlalchemy import select

from calm_tariff.core.estimates import MOST_AT_ONCE
from calm_tariff.core.periods import day_start, local_day, month_of, period_before
from calm_tariff.services.admit.portals import storefront
from calm_tariff.services.base.context import Context, zone_of
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan
from calm_tariff.store.serve import usage_queries


@dataclass(frozen=True, slots=True)
class MeterUsed:
    """Units of a meter."""

    key: str
    units: Decimal


@dataclass(frozen=True, slots=True)
class OwnUse:
    """The month by its first day, its units by meter, rounded to whole ones (none where nothing was used), and the most
    calls that came in a second of its busiest hour."""

    month: date
    meters: list[MeterUsed]
    at_once: int


def last_month(ctx: Context, slug: str) -> OwnUse:
    """What the signed-in consumer used of a product last month. Raises `NotFound`."""
    consumer = ctx.actor.own_consumer
    with ctx.reading() as session:
        product, _ = storefront.found(session, ctx, slug)
        where = zone_of(session)
        month = period_before(month_of(local_day(ctx.now_us, where)))
        start, end = day_start(month.start, where), day_start(month.end, where)
        query = (
            select(Subscription.id)
            .join(Plan, Plan.id == Subscription.plan_id)
            .join(Application, Application.id == Subscription.application_id)
            .where(Plan.product_id == product.id, Application.consumer_id == consumer)
        )
        subscriptions = list(session.scalars(query))
        used: dict[int, Decimal] = {}
        for (_, meter), units in usage_queries.units_by_subscription(session, start, end, subscriptions).items():
            used[meter] = used.get(meter, Decimal(0)) + units
        keys = {meter.id: meter.key for meter in session.scalars(select(Meter).where(Meter.id.in_(used)))}
        busiest = usage_queries.most_in_a_second(session, start, end, subscriptions) if used else 0
        return OwnUse(
            month=month.start,
            meters=[MeterUsed(keys[meter], whole) for meter, whole in _whole(used) if whole],
            at_once=min(max(busiest, 1), MOST_AT_ONCE),
        )


def _whole(used: dict[int, Decimal]) -> list[tuple[int, Decimal]]:
    return [(meter, units.quantize(Decimal(1), ROUND_HALF_UP)) for meter, units in sorted(used.items())]
