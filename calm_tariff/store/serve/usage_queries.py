"""Metered units: exact sums over any stretch, from daily and hourly sums and, at ragged edges, from calls."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from sqlalchemy import Subquery, case, func, select
from sqlalchemy.orm import Session

from calm_tariff.core.periods import DAY, HOUR, SECOND
from calm_tariff.store.admit import merged
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.serve.usage import Call, DailyUsage, DailyVerdicts, HourlyOutcomes, HourlyUsage, HourlyVerdicts

ZERO = Decimal(0)
Stretch = tuple[int, int]


@dataclass(frozen=True, slots=True, kw_only=True)
class Counted:
    """Units of one meter, told apart as finely as they are kept but for their hour."""

    subscription_id: int
    stay_id: int
    key_id: int
    operation_id: int
    meter_id: int
    units: Decimal


def _counted_calls(
    session: Session, start_us: int, end_us: int, subscriptions: Sequence[int] | None
) -> Iterator[Counted]:
    read = (Call.units, Call.subscription_id, Call.stay_id, Call.key_id, Call.operation_id)
    query = select(*read).where(Call.at_us >= start_us, Call.at_us < end_us, Call.verdict != "refused")
    query = query.where(Call.strike_id.is_(None))
    if subscriptions is not None:
        query = query.where(Call.subscription_id.in_(subscriptions))
    for call in session.execute(query):
        for meter_id, units in call.units.items():
            yield Counted(
                subscription_id=call.subscription_id or 0,
                stay_id=call.stay_id or 0,
                key_id=call.key_id or 0,
                operation_id=call.operation_id or 0,
                meter_id=int(meter_id),
                units=Decimal(units),
            )


def units_by_stay(
    session: Session, start_us: int, end_us: int, subscriptions: Sequence[int] | None = None
) -> dict[tuple[int, int], Decimal]:
    """Units in [start, end) by (stay, meter)."""
    return _units_by(session, "stay_id", start_us, end_us, subscriptions)


def units_by_subscription(
    session: Session, start_us: int, end_us: int, subscriptions: Sequence[int] | None = None
) -> dict[tuple[int, int], Decimal]:
    """Units in [start, end) by (subscription, meter)."""
    return _units_by(session, "subscription_id", start_us, end_us, subscriptions)


def _units_by(
    session: Session, whose: str, start_us: int, end_us: int, subscriptions: Sequence[int] | None
) -> dict[tuple[int, int], Decimal]:
    """Sums from whole days, what is left over from whole hours, and what is left of that from calls."""
    sums: dict[tuple[int, int], Decimal] = {}
    days, hours = _whole(start_us, end_us, DAY)
    calls: list[Stretch] = []
    stretches: list[tuple[Any, Any, Stretch]] = [(DailyUsage, DailyUsage.day_us, d) for d in days]
    for stretch in hours:
        whole, rest = _whole(*stretch, HOUR)
        stretches += [(HourlyUsage, HourlyUsage.hour_us, h) for h in whole]
        calls += rest
    for table, at, (begin, end) in stretches:
        owner = getattr(table, whose)
        query = select(owner, table.meter_id, func.sum(table.units)).where(at >= begin, at < end)
        if subscriptions is not None:
            query = query.where(table.subscription_id.in_(subscriptions))
        for place, meter, units in session.execute(query.group_by(owner, table.meter_id)):
            sums[place, meter] = sums.get((place, meter), ZERO) + units
    for begin, end in calls:
        for row in _counted_calls(session, begin, end, subscriptions):
            key = (getattr(row, whose), row.meter_id)
            sums[key] = sums.get(key, ZERO) + row.units
    return sums


def _whole(start_us: int, end_us: int, size: int) -> tuple[list[Stretch], list[Stretch]]:
    """The stretch of whole days or hours in [start, end), if there is one, and the stretches beside it."""
    first, last = -(-start_us // size) * size, end_us // size * size
    if first >= last:
        return [], [(start_us, end_us)] if start_us < end_us else []
    return [(first, last)], [(a, b) for a, b in ((start_us, first), (last, end_us)) if a < b]


def hourly_units_of_all(
    session: Session, since_us: int, subscriptions: Collection[int]
) -> dict[tuple[int, int], dict[int, Decimal]]:
    """Units by (subscription, meter) and hour: the history behind every projection, in one query."""
    query = (
        select(
            HourlyUsage.subscription_id,
            HourlyUsage.meter_id,
            HourlyUsage.hour_us,
            func.sum(HourlyUsage.units),
        )
        .where(HourlyUsage.hour_us >= since_us, HourlyUsage.subscription_id.in_(subscriptions))
        .group_by(HourlyUsage.subscription_id, HourlyUsage.meter_id, HourlyUsage.hour_us)
    )
    found: dict[tuple[int, int], dict[int, Decimal]] = {}
    for subscription, meter, hour, units in session.execute(query):
        found.setdefault((subscription, meter), {})[hour] = units
    return found


def first_hours(session: Session, subscriptions: Collection[int]) -> dict[tuple[int, int], int]:
    """The first hour with units, by (subscription, meter)."""
    query = select(HourlyUsage.subscription_id, HourlyUsage.meter_id, func.min(HourlyUsage.hour_us)).where(
        HourlyUsage.subscription_id.in_(subscriptions)
    )
    grouped = query.group_by(HourlyUsage.subscription_id, HourlyUsage.meter_id)
    return {(s, m): hour for s, m, hour in session.execute(grouped)}


def verdicts_of(session: Session, start_us: int, end_us: int, consumer_id: int) -> dict[str, int]:
    """Calls of a consumer, and of those merged into it, in [start, end), whole hours, by verdict."""
    found: dict[str, int] = {}
    for calls in verdicts_between(session, start_us, end_us, merged.with_merged(session, consumer_id)).values():
        for verdict, n in calls.items():
            found[verdict] = found.get(verdict, 0) + n
    return found


def verdicts_between(
    session: Session, start_us: int, end_us: int, consumers: Collection[int] | None = None
) -> dict[int, dict[str, int]]:
    """Calls in [start, end), whole hours, by consumer (0: nobody known) and verdict; those of one that was merged into
    another are the other's."""
    found: dict[int, dict[str, int]] = {}
    successors = merged.successors(session)
    days, hours = _whole(start_us, end_us, DAY)
    stretches: list[tuple[Any, Any, Stretch]] = [(DailyVerdicts, DailyVerdicts.day_us, d) for d in days]
    stretches += [(HourlyVerdicts, HourlyVerdicts.hour_us, h) for h in hours]
    for table, at, (begin, end) in stretches:
        query = select(table.consumer_id, table.verdict, func.sum(table.calls)).where(at >= begin, at < end)
        if consumers is not None:
            query = query.where(table.consumer_id.in_(consumers))
        for consumer, verdict, calls in session.execute(query.group_by(table.consumer_id, table.verdict)):
            cell = found.setdefault(successors.get(consumer, consumer), {})
            cell[verdict] = cell.get(verdict, 0) + int(calls)
    return found


def verdicts_of_all(since_us: int) -> Subquery:
    """Calls `let_in` and `refused` since the beginning of a UTC day by `consumer_id`: to be joined with others."""
    refused = case((DailyVerdicts.verdict == "refused", DailyVerdicts.calls), else_=0)
    query = select(
        DailyVerdicts.consumer_id,
        func.sum(DailyVerdicts.calls - refused).label("let_in"),
        func.sum(refused).label("refused"),
    )
    own = query.where(DailyVerdicts.day_us >= since_us).group_by(DailyVerdicts.consumer_id).subquery()
    # Who goes on for whom is looked up once for each consumer, not for each of its days.
    whose = func.coalesce(Consumer.merged_into_id, Consumer.id)
    sums = (func.sum(column).label(column.name) for column in (own.c.let_in, own.c.refused))
    by_consumer = select(whose.label("consumer_id"), *sums).join(Consumer, Consumer.id == own.c.consumer_id)
    return by_consumer.group_by(whose).subquery()


@dataclass(frozen=True, slots=True)
class Outcomes:
    """Calls let through with one outcome, in the stretch between two bounds: the `place`th."""

    place: int
    operation_id: int
    consumer_id: int
    consumer: str
    environment: str
    status: int
    calls: int
    bytes_in: int
    bytes_out: int


def outcomes_between(session: Session, bounds: Sequence[int]) -> list[Outcomes]:
    """What became of calls let through, by stretch between neighbouring bounds, operation, consumer, environment
    and status. An hour belongs to the stretch it begins in."""
    place = func.interval(HourlyOutcomes.hour_us, *bounds) - 1
    cell = (
        place,
        HourlyOutcomes.operation_id,
        HourlyOutcomes.consumer_id,
        Consumer.name,
        HourlyOutcomes.environment,
        HourlyOutcomes.status,
    )
    query = (
        select(
            *cell,
            func.sum(HourlyOutcomes.calls),
            func.sum(HourlyOutcomes.bytes_in),
            func.sum(HourlyOutcomes.bytes_out),
        )
        .join(Consumer, Consumer.id == HourlyOutcomes.consumer_id)
        .where(HourlyOutcomes.hour_us >= bounds[0], HourlyOutcomes.hour_us < bounds[-1])
        .where(HourlyOutcomes.verdict != "refused")
        .group_by(*cell)
    )
    return [
        Outcomes(
            place=int(nth),
            operation_id=operation,
            consumer_id=consumer,
            consumer=name,
            environment=environment,
            status=status,
            calls=int(calls),
            bytes_in=int(bytes_in),
            bytes_out=int(bytes_out),
        )
        for nth, operation, consumer, name, environment, status, calls, bytes_in, bytes_out in session.execute(query)
    ]


@dataclass(frozen=True, slots=True, kw_only=True)
class OwnOutcomes:
    """Calls of one consumer that are alike, in the stretch between two bounds: the `place`th."""

    place: int
    operation_id: int
    application_id: int
    key_id: int
    environment: str
    verdict: str
    refused_by: str
    status: int
    calls: int
    bytes_in: int
    bytes_out: int


def outcomes_of(session: Session, consumer_id: int, bounds: Sequence[int]) -> list[OwnOutcomes]:
    """What became of a consumer's calls, by stretch between neighbouring bounds and by all that is told apart. An hour
    belongs to the stretch it begins in."""
    cell = (
        func.interval(HourlyOutcomes.hour_us, *bounds) - 1,
        HourlyOutcomes.operation_id,
        HourlyOutcomes.application_id,
        HourlyOutcomes.key_id,
        HourlyOutcomes.environment,
        HourlyOutcomes.verdict,
        HourlyOutcomes.refused_by,
        HourlyOutcomes.status,
    )
    sums = (func.sum(getattr(HourlyOutcomes, name)) for name in ("calls", "bytes_in", "bytes_out"))
    query = select(*cell, *sums).where(
        HourlyOutcomes.consumer_id.in_(merged.with_merged(session, consumer_id)),
        HourlyOutcomes.hour_us >= bounds[0],
        HourlyOutcomes.hour_us < bounds[-1],
    )
    return [
        OwnOutcomes(
            place=int(place),
            operation_id=operation,
            application_id=application,
            key_id=key,
            environment=environment,
            verdict=verdict,
            refused_by=refused_by,
            status=status,
            calls=int(calls),
            bytes_in=int(bytes_in),
            bytes_out=int(bytes_out),
        )
        for (
            place,
            operation,
            application,
            key,
            environment,
            verdict,
            refused_by,
            status,
            calls,
            bytes_in,
            bytes_out,
        ) in session.execute(query.group_by(*cell).order_by(*cell))
    ]


def most_in_a_second(session: Session, start_us: int, end_us: int, subscriptions: Sequence[int]) -> int:
    """The most calls that subscriptions made in one second of their busiest hour in [start, end): that of the most
    units, which is found without a look at single calls."""
    whose = HourlyUsage.subscription_id.in_(subscriptions)
    calls = func.sum(HourlyUsage.calls)
    hours = (
        select(HourlyUsage.hour_us)
        .where(whose, HourlyUsage.hour_us >= start_us, HourlyUsage.hour_us < end_us)
        .group_by(HourlyUsage.hour_us)
        .order_by(calls.desc())
    )
    hour = session.scalar(hours.limit(1))
    if hour is None:
        return 0
    second = func.floor(Call.at_us / SECOND)
    by_second = (
        select(func.count().label("calls"))
        .where(Call.subscription_id.in_(subscriptions), Call.at_us >= hour, Call.at_us < hour + HOUR)
        .group_by(second)
        .subquery()
    )
    return session.scalar(select(func.max(by_second.c.calls))) or 0
