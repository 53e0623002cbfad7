"""Down to the call: which hours two sums that differ came of, and which calls in them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import ColumnElement, Numeric, and_, cast, func, select

from calm_tariff.core import meters as rules
from calm_tariff.core.billing.books.proof import Difference, unequal
from calm_tariff.core.periods import DAY, HOUR, day_start, instant_of, month_step
from calm_tariff.services.compose.meters import rule_of
from calm_tariff.services.settle.books.looking import Looking
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.serve.usage import Call, DailyUsage, DailyVerdicts, HourlyOutcomes, HourlyUsage, HourlyVerdicts

ZERO = Decimal(0)
# So many stretches of one difference are named, and so many calls of one stretch.
STRETCHES, CALLS = 24, 20
Sums = tuple[tuple[str, Decimal], ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class WrongCall:
    """A call that says so many units, where its meter reads so many of what is recorded of it."""

    call_id: str
    at_us: int
    says: Decimal
    reads: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class CameOf:
    """A stretch, an hour or a day, in which tables differ: what each says, and of the calls in it those that are wrong
    by themselves. Where none is, one is missing, or the sum is wrong."""

    since_us: int
    until_us: int
    sums: Sums
    wrong: list[WrongCall]


def came_of(of: Looking, difference: Difference) -> list[CameOf]:
    """The stretches a difference came of, the first ones; none where it did not come of calls."""
    if difference.check == "calls" and difference.period is not None:
        return _of_verdicts(of, difference)
    if difference.check in ("units", "charges") and difference.meter_id is not None:
        return _of_units(of, difference)
    return []


def _of_units(of: Looking, difference: Difference) -> list[CameOf]:
    subscription, meter = difference.subscription_id or 0, difference.meter_id or 0
    assert difference.period is not None
    since, until = _span(of, difference.period, utc=difference.check == "units")
    units = cast(func.json_value(Call.units, f'$."{meter}"'), Numeric(30, 6))
    hour = (Call.at_us - Call.at_us % HOUR).label("hour")
    whose = Call.subscription_id.is_(None) if not subscription else Call.subscription_id == subscription
    counted = whose & Call.strike_id.is_(None) & func.json_exists(Call.units, f'$."{meter}"')
    by_call = select(hour, func.count(), func.sum(units)).where(counted, Call.at_us >= since, Call.at_us < until)
    kept = _whose(HourlyUsage, difference), _whose(DailyUsage, difference)
    calls, by_calls = _two(of, by_call.group_by("hour"))
    hours, by_hours = _two(of, _by_stretch(HourlyUsage, HourlyUsage.hour_us, kept[0], since, until))
    days, by_days = _two(of, _by_stretch(DailyUsage, DailyUsage.day_us, kept[1], since, until))
    if not of.is_kept(since):
        calls, by_calls = hours, by_hours
    found = _stretches({"calls": by_calls, "hours": by_hours}, HOUR) or _stretches(
        {"calls": calls, "hours": hours}, HOUR
    )
    if not found:
        found = _stretches({"hours": _daily(by_hours), "days": by_days}, DAY) or _stretches(
            {"hours": _daily(hours), "days": days}, DAY
        )
    return [
        CameOf(since_us=at, until_us=at + size, sums=sums, wrong=_wrong(of, whose, meter, at, at + size))
        for at, size, sums in found
    ]


def _of_verdicts(of: Looking, difference: Difference) -> list[CameOf]:
    """Hours, or days, in which a consumer's calls with a verdict are not as many in each table."""
    assert difference.period is not None
    since, until = _span(of, difference.period, utc=True)
    verdict, consumer = difference.verdict, difference.consumer_id or 0
    hour = (Call.at_us - Call.at_us % HOUR).label("hour")
    whose = Call.consumer_id.is_(None) if not consumer else Call.consumer_id == consumer
    by_call = select(hour, func.count(), func.count()).where(
        whose, Call.verdict == verdict, Call.at_us >= since, Call.at_us < until
    )
    tables: dict[str, dict[int, Decimal]] = {}
    if of.is_kept(since):
        tables["calls"] = _two(of, by_call.group_by("hour"))[0]
    for name, table, at in (
        ("hours by verdict", HourlyVerdicts, HourlyVerdicts.hour_us),
        ("hours by outcome", HourlyOutcomes, HourlyOutcomes.hour_us),
        ("days by verdict", DailyVerdicts, DailyVerdicts.day_us),
    ):
        mine = (table.consumer_id == consumer) & (table.verdict == verdict)
        query = select(at, func.sum(table.calls), func.sum(table.calls)).where(mine, at >= since, at < until)
        tables[name] = _two(of, query.group_by(at))[0]
    days = tables.pop("days by verdict")
    found = _stretches(tables, HOUR)
    if not found:
        found = _stretches({"hours by verdict": _daily(tables["hours by verdict"]), "days by verdict": days}, DAY)
    return [CameOf(since_us=at, until_us=at + size, sums=sums, wrong=[]) for at, size, sums in found]


def _whose(table: Any, difference: Difference) -> ColumnElement[bool]:
    return and_(table.subscription_id == (difference.subscription_id or 0), table.meter_id == difference.meter_id)


def _by_stretch(table: Any, at: Any, whose: ColumnElement[bool], since: int, until: int) -> Any:
    query = select(at, func.sum(table.calls), func.sum(table.units)).where(whose, at >= since, at < until)
    return query.group_by(at)


def _two(of: Looking, query: Any) -> tuple[dict[int, Decimal], dict[int, Decimal]]:
    """Calls, and units, by when a stretch begins."""
    calls, units = {}, {}
    for at, count, amount in of.session.execute(query):
        calls[at], units[at] = Decimal(count), Decimal(amount or 0)
    return calls, units


def _stretches(tables: dict[str, dict[int, Decimal]], size: int) -> list[tuple[int, int, Sums]]:
    return [(at, size, sums) for at, sums in sorted(unequal(tables))[:STRETCHES]]


def _daily(hours: dict[int, Decimal]) -> dict[int, Decimal]:
    found: dict[int, Decimal] = defaultdict(Decimal)
    for at, amount in hours.items():
        found[at - at % DAY] += amount
    return found


def _span(of: Looking, month: date, utc: bool) -> tuple[int, int]:
    ends = month_step(month, 1)
    if utc:
        first, last = (instant_of(datetime(day.year, day.month, 1, tzinfo=UTC)) for day in (month, ends))
        return first, last
    return day_start(month, of.where), day_start(ends, of.where)


def _wrong(of: Looking, whose: ColumnElement[bool], meter_id: int, since: int, until: int) -> list[WrongCall]:
    """Calls of a stretch whose units are not what their meter reads of what is recorded of them."""
    meter = of.session.get(Meter, meter_id)
    if meter is None:
        return []
    rule, found = rule_of(meter), []
    within = whose, Call.at_us >= since, Call.at_us < until, Call.strike_id.is_(None)
    for call in of.session.scalars(select(Call).where(*within).order_by(Call.at_us, Call.call_id)):
        says = call.units.get(str(meter_id))
        read = _read(rule, call)
        if says is not None and Decimal(str(says)) != (read or ZERO):
            found.append(WrongCall(call_id=call.call_id, at_us=call.at_us, says=Decimal(str(says)), reads=read or ZERO))
    return found[:CALLS]


def _read(rule: rules.Meter, call: Call) -> Decimal | None:
    if call.verdict == "refused" or call.operation_id is None:
        return None
    reported = {name.lower(): said for name, said in call.reported.items()}
    seen = rules.Outcome(
        operation=str(call.operation_id),
        status=call.status,
        bytes_in=call.bytes_in,
        bytes_out=call.bytes_out,
        environment="sandbox" if call.environment == "sandbox" else "live",
        reported=reported.get(rule.header.lower()) if rule.header else None,
        credential=call.credential,
    )
    read = rules.reading(rule, seen)
    return None if read is None else read.units


def told(of: Sequence[CameOf]) -> list[dict[str, Any]]:
    """The same as it is kept."""
    return [
        {
            "since_us": each.since_us,
            "until_us": each.until_us,
            "sums": [[name, str(amount)] for name, amount in each.sums],
            "wrong": [
                {"call_id": w.call_id, "at_us": w.at_us, "says": str(w.says), "reads": str(w.reads)} for w in each.wrong
            ],
        }
        for each in of
    ]
