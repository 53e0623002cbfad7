"""A meter's filter held against recorded history, before it is kept."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import selectinload

from calm_tariff.core import meters as rules
from calm_tariff.core.meters import Environment
from calm_tariff.core.periods import day_start, local_day
from calm_tariff.services.base.context import ROLES, Context, zone_of
from calm_tariff.services.compose.meters import MeterTyped, rule_of
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.serve import usage_queries

PREVIEW_DAYS = 30


@dataclass(frozen=True, slots=True)
class CountedDay:
    """What a meter would have counted on one local day."""

    day: date
    units: Decimal


@dataclass(frozen=True, slots=True)
class CountedConsumer:
    """What a meter would have counted for one consumer."""

    consumer_id: int
    consumer: str
    units: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class Preview:
    """A filter held against recorded history.

    `served` calls in all, `matched` of them by the filter, `units` counted from these. `uncounted` of the
    served calls are counted by no meter, this one included. A reported number is not in the history:
    then `units` is None, and days and consumers count the calls that would be read.
    """

    since: date
    served: int
    matched: int
    units: Decimal | None
    uncounted: int
    days: list[CountedDay]
    consumers: list[CountedConsumer]


def preview(ctx: Context, typed: MeterTyped, meter_id: int | None = None) -> Preview:
    """What a filter would have counted over the last 30 days. Nothing is kept or charged.

    `meter_id` is the stored meter the filter stands for, whose old filter then counts no more.
    """
    ctx.actor.must_be(*ROLES)
    wanted = rules.Meter(
        key="",
        measure=typed.measure,
        operations=frozenset(str(o) for o in typed.operations),
        outcomes=tuple(typed.outcomes),
        environments=tuple(typed.environments),
        header=typed.header,
        credentials=tuple(typed.credentials),
    )
    with ctx.transaction() as session:
        where = zone_of(session)
        today = local_day(ctx.now_us, where)
        since = today - timedelta(days=PREVIEW_DAYS - 1)
        days: dict[date, Decimal] = {since + timedelta(days=n): Decimal(0) for n in range(PREVIEW_DAYS)}
        consumers: dict[int, CountedConsumer] = {}
        active = select(Meter).where(Meter.state == "active").options(selectinload(Meter.operations))
        others = [rule_of(m) for m in session.scalars(active) if m.id != meter_id]
        served = matched = uncounted = 0
        units = Decimal(0)
        bounds = [day_start(since + timedelta(days=n), where) for n in range(PREVIEW_DAYS + 1)]
        for row in usage_queries.outcomes_between(session, bounds):
            served += row.calls
            if not _counts(wanted, row):
                uncounted += 0 if any(_counts(other, row) for other in others) else row.calls
                continue
            matched += row.calls
            size = {"bytes_out": row.bytes_out, "bytes_in": row.bytes_in}.get(typed.measure)
            here = Decimal(row.calls) if size is None else rules.megabytes(size)
            units += here
            days[since + timedelta(days=row.place)] += here
            known = consumers.get(row.consumer_id)
            consumers[row.consumer_id] = CountedConsumer(
                row.consumer_id, row.consumer, here + (known.units if known else 0)
            )
        by_units = sorted(consumers.values(), key=lambda c: -c.units)
        return Preview(
            since=since,
            served=served,
            matched=matched,
            units=None if typed.measure == "reported" else units,
            uncounted=uncounted,
            days=[CountedDay(d, n) for d, n in days.items()],
            consumers=by_units,
        )


def _counts(meter: rules.Meter, row: usage_queries.Outcomes) -> bool:
    environment: Environment = "sandbox" if row.environment == "sandbox" else "live"
    return rules.covers(meter, str(row.operation_id), environment) and rules.outcome_counts(meter, row.status)
