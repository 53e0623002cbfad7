"""All calls and all sums of them, each read from its own table alone, by the stretches of time between some instants:
what the books are proved by."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import Any, NamedTuple

from sqlalchemy import Numeric, cast, func, select
from sqlalchemy.orm import Session

from calm_tariff.core.periods import HOUR
from calm_tariff.store.serve.usage import Call, DailyUsage, DailyVerdicts, HourlyOutcomes, HourlyUsage, HourlyVerdicts

USAGE: tuple[Any, ...] = (HourlyUsage, DailyUsage)
VERDICTS: tuple[Any, ...] = (HourlyVerdicts, HourlyOutcomes, DailyVerdicts)
ZERO = Decimal(0)


class CallSum(NamedTuple):
    """Calls of one stretch (its place among them, from 0) that are `alike`, and what they come to by one meter; `meter`
    is empty where none counted them, `failed` whether the answer was an error. `calls` are those of them that were not
    told of by another meter."""

    stretch: int
    subscription_id: int
    consumer_id: int
    verdict: str
    struck: bool
    environment: str
    failed: bool
    meter: str
    calls: int
    alike: int
    units: Decimal


def of_calls(session: Session, since: Sequence[int], until: int) -> Iterator[CallSum]:
    """Calls of the stretches that begin at some instants, the last of which ends at another. A call that several
    meters counted is told of by each."""
    for place in range(_most_meters(session, since[0], until)):
        key = func.json_value(func.json_keys(Call.units), f"$[{place}]")
        units = cast(func.json_value(Call.units, func.concat('$."', key, '"')), Numeric(30, 6))
        alike = (
            func.interval(Call.at_us, *since).label("stretch"),
            func.ifnull(Call.subscription_id, 0).label("subscription"),
            func.ifnull(Call.consumer_id, 0).label("consumer"),
            Call.verdict,
            Call.strike_id.is_not(None).label("struck"),
            Call.environment,
            (Call.status >= 400).label("failed"),
            func.ifnull(key, "").label("meter"),
        )
        query = select(*alike, func.count(), func.sum(units)).where(Call.at_us >= since[0], Call.at_us < until)
        if place:
            query = query.where(func.json_length(Call.units) > place)
        for row in session.execute(query.group_by(*(each.name for each in alike))):
            stretch, subscription, consumer, verdict, struck, environment, failed, meter, calls, units_of = row
            yield CallSum(
                stretch=stretch - 1,
                subscription_id=subscription,
                consumer_id=consumer,
                verdict=verdict,
                struck=bool(struck),
                environment=environment,
                failed=bool(failed),
                meter=meter,
                calls=0 if place else calls,
                alike=calls,
                units=units_of or ZERO,
            )


def _most_meters(session: Session, since: int, until: int) -> int:
    """By how many meters a call was counted at most; 1 where none was."""
    query = select(func.max(func.json_length(Call.units))).where(Call.at_us >= since, Call.at_us < until)
    return max(session.scalar(query) or 0, 1)


def usage(
    session: Session, table: Any, since: Sequence[int], until: int
) -> Iterator[tuple[int, int, int, int, Decimal]]:
    """Sums of units by stretch, subscription and meter: calls and units."""
    for stretch, *of in _summed(session, table, since, until, ("subscription_id", "meter_id"), ("calls", "units")):
        yield stretch - 1, *of


def verdicts(session: Session, table: Any, since: Sequence[int], until: int) -> Iterator[tuple[int, int, str, int]]:
    """Sums of calls by stretch, consumer (0: nobody known) and verdict."""
    for stretch, *of in _summed(session, table, since, until, ("consumer_id", "verdict"), ("calls",)):
        yield stretch - 1, *of


def _summed(
    session: Session, table: Any, since: Sequence[int], until: int, by: Sequence[str], summed: Sequence[str]
) -> Iterator[Any]:
    at = table.day_us if hasattr(table, "day_us") else table.hour_us
    alike = (func.interval(at, *since).label("stretch"), *(getattr(table, name) for name in by))
    query = select(*alike, *(func.sum(getattr(table, name)) for name in summed)).where(at >= since[0], at < until)
    yield from session.execute(query.group_by("stretch", *by))


def first(session: Session) -> int | None:
    """The first instant that any of them tells of."""
    columns = (Call.at_us, *(t.day_us if hasattr(t, "day_us") else t.hour_us for t in (*USAGE, *VERDICTS)))
    found = [session.scalar(select(func.min(column))) for column in columns]
    return min((at for at in found if at is not None), default=None)


def last(session: Session) -> int:
    """The end of the last hour that any of them tells of."""
    columns = (Call.at_us, HourlyUsage.hour_us, HourlyVerdicts.hour_us, HourlyOutcomes.hour_us)
    found = [session.scalar(select(func.max(column))) or 0 for column in columns]
    return max(found) // HOUR * HOUR + HOUR
