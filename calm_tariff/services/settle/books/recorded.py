"""What was recorded, call by call and in sums: the checks *calls* and *units*, and what became of the calls of each
period.

Sums of hours and of days are held against calls by the calendar months of UTC, because days are; periods begin when the
provider's months do.

Source: docs/arithmetic.md, section 7.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from decimal import Decimal
from typing import Any

from calm_tariff.core.billing.books.proof import Difference, Proof, unequal
from calm_tariff.services.settle.books.looking import Looking
from calm_tariff.store.serve import whole_sums

ZERO = Decimal(0)
# What the tables are called where their sums stand.
NAMES = {
    "call": "calls",
    "hourly_usage": "hours",
    "daily_usage": "days",
    "hourly_verdicts": "hours by verdict",
    "hourly_outcomes": "hours by outcome",
    "daily_verdicts": "days by verdict",
}
# By period or calendar month of UTC, subscription (0: none) and meter.
Key = tuple[date, int, int]


@dataclass(slots=True)
class Tally:
    """Calls of a period by what became of them: counted by a meter, or by none because they were refused, struck out,
    made in the sandbox, or failed, or because no meter covers them."""

    recorded: int = 0
    counted: int = 0
    refused: int = 0
    struck_out: int = 0
    sandbox: int = 0
    failed: int = 0
    uncovered: int = 0


@dataclass(slots=True)
class Recorded:
    """What the calls themselves say: units by period and by calendar month of UTC, calls by what became of them, and by
    consumer (0: nobody known) and verdict."""

    units: dict[Key, Decimal] = field(default_factory=lambda: defaultdict(Decimal))
    utc_units: dict[Key, Decimal] = field(default_factory=lambda: defaultdict(Decimal))
    utc_counted: dict[Key, Decimal] = field(default_factory=lambda: defaultdict(Decimal))
    utc_verdicts: dict[tuple[date, int, str], Decimal] = field(default_factory=lambda: defaultdict(Decimal))
    tallies: dict[date, Tally] = field(default_factory=lambda: defaultdict(Tally))


def calls(of: Looking) -> Recorded:
    """Read every call that is kept."""
    found = Recorded()
    cuts = of.cuts
    if not cuts:
        return found
    for each in whole_sums.of_calls(of.session, cuts[:-1], cuts[-1]):
        at = cuts[each.stretch]
        period, month = of.period_at(at), of.utc_month_at(at)
        if each.calls:
            found.utc_verdicts[month, each.consumer_id, each.verdict] += each.calls
            if period is not None:
                _tally(found.tallies[period], each)
        if each.meter and not each.struck:
            meter = int(each.meter)
            if period is not None:
                found.units[period, each.subscription_id, meter] += each.units
            found.utc_units[month, each.subscription_id, meter] += each.units
            found.utc_counted[month, each.subscription_id, meter] += each.alike
    return found


def _tally(of: Tally, each: whole_sums.CallSum) -> None:
    of.recorded += each.calls
    if each.verdict == "refused":
        of.refused += each.calls
    elif each.struck:
        of.struck_out += each.calls
    elif each.meter:
        of.counted += each.calls
    elif each.environment == "sandbox":
        of.sandbox += each.calls
    elif each.failed:
        of.failed += each.calls
    else:
        of.uncovered += each.calls


def verdicts_proof(of: Looking, recorded: Recorded) -> Proof:
    """Calls by calendar month of UTC, consumer and verdict: as many in each table."""
    tables: dict[str, Mapping[Any, Decimal]] = {"calls": recorded.utc_verdicts}
    for table in whole_sums.VERDICTS:
        sums: dict[tuple[date, int, str], Decimal] = defaultdict(Decimal)
        for stretch, consumer, verdict, count in _by_month(of, whole_sums.verdicts, table):
            sums[stretch, consumer, verdict] += count
        tables[NAMES[table.__tablename__]] = sums
    differences = tuple(
        Difference(
            check="calls",
            what=f"calls {verdict} in {month:%B %Y} (UTC)",
            sums=sums,
            period=month,
            consumer_id=consumer or None,
            verdict=verdict,
        )
        for (month, consumer, verdict), sums in unequal(_kept(of, tables))
    )
    return proof("calls", tables, differences)


def units_proof(of: Looking, recorded: Recorded) -> Proof:
    """Units, and calls that were counted, by calendar month of UTC, subscription and meter: the same in each table."""
    units: dict[str, Mapping[Any, Decimal]] = {"calls": recorded.utc_units}
    counted: dict[str, Mapping[Any, Decimal]] = {"calls": recorded.utc_counted}
    for table in whole_sums.USAGE:
        name = NAMES[table.__tablename__]
        sums: dict[Key, Decimal] = defaultdict(Decimal)
        many: dict[Key, Decimal] = defaultdict(Decimal)
        for month, subscription, meter, count, amount in _by_month(of, whole_sums.usage, table):
            sums[month, subscription, meter] += amount
            many[month, subscription, meter] += count
        units[name], counted[name] = sums, many
    differences = [
        Difference(
            check="units",
            what=f"{what} in {month:%B %Y} (UTC)",
            sums=sums,
            period=month,
            subscription_id=subscription or None,
            meter_id=meter,
        )
        for what, tables in (("units", units), ("counted calls", counted))
        for (month, subscription, meter), sums in unequal(_kept(of, tables))
    ]
    return proof("units", units, tuple(differences))


def proof(check: Any, tables: Mapping[str, Mapping[Any, Decimal]], differences: tuple[Difference, ...]) -> Proof:
    """What came of comparing tables."""
    return Proof(
        check=check,
        compared=len({key for said in tables.values() for key in said}),
        sums=tuple((name, sum(said.values(), ZERO)) for name, said in tables.items()),
        differences=differences,
    )


def _by_month(of: Looking, read: Any, table: Any) -> Any:
    months = of.utc_months
    if months:
        for stretch, *rest in read(of.session, table, months[:-1], months[-1]):
            yield of.utc_month_at(months[stretch]), *rest


def _kept(of: Looking, tables: Mapping[str, Mapping[Any, Decimal]]) -> dict[str, dict[Any, Decimal]]:
    """The same without what calls no longer tell of: there sums of hours and days stand for one another alone."""
    gone = {of.utc_month_at(at) for at in of.utc_months[:-1] if not of.is_kept(at)}
    if not gone:
        return {name: dict(said) for name, said in tables.items()}
    first = next(name for name in tables if name != "calls")
    found = {name: dict(said) for name, said in tables.items()}
    found["calls"] = {key: amount for key, amount in tables["calls"].items() if key[0] not in gone}
    found["calls"].update({key: amount for key, amount in tables[first].items() if key[0] in gone})
    return found
