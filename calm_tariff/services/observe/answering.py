"""How a product's APIs have answered, by day: what share of the calls of everybody did not fail, and how soon they were
answered. Only shares and durations are told, never how many calls there were."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import ROUND_CEILING, Decimal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.answering import LEAST_CALLS, available, within_us
from calm_tariff.core.lifecycles import ANSWERING
from calm_tariff.core.periods import DAY, instant_of, moment_of
from calm_tariff.services.admit.portals import storefront
from calm_tariff.services.base.context import Context
from calm_tariff.store.compose.apis import Operation
from calm_tariff.store.serve.usage import DailyAnswers

DAYS = 30
HALF, MOST = 50, 95
_TENTH = Decimal("0.1")


@dataclass(frozen=True, slots=True)
class Answered:
    """How a stretch went: the percentage of calls that did not fail, and within how many milliseconds half of them and
    95 of 100 were answered (None: beyond a hundred seconds). All are None where there were too few calls to tell."""

    available: Decimal | None
    half_ms: Decimal | None
    most_ms: Decimal | None


@dataclass(frozen=True, slots=True)
class DayAnswered:
    """A UTC day."""

    day: date
    answered: Answered


@dataclass(frozen=True, slots=True)
class VersionAnswered:
    """How a version has answered over all days, and on each; the last day is not over yet."""

    version: str
    answered: Answered
    days: list[DayAnswered]


def of_product(ctx: Context, slug: str) -> list[VersionAnswered]:
    """How the versions of a product that answer now have answered of late, by the operations that it sells. Raises
    `NotFound`."""
    with ctx.reading() as session:
        product, _ = storefront.found(session, ctx, slug)
        sold = [o for o in product.operations if o.api_version.state in ANSWERING]
        names = {o.api_version_id: f"{o.api_version.api.name} {o.api_version.version}" for o in sold}
        told = _told(session, ctx, [o.id for o in sold])
    days = [ctx.now.date() - timedelta(days=n) for n in range(DAYS - 1, -1, -1)]
    return [_version(name, told.get(id, {}), days) for id, name in sorted(names.items(), key=lambda one: one[1])]


# Calls by whether the API failed and by band, of one day.
_Day = Counter[tuple[bool, int]]


def _version(name: str, by_day: dict[date, _Day], days: list[date]) -> VersionAnswered:
    whole: _Day = Counter()
    for day in days:
        whole += by_day.get(day, Counter())
    shown = [DayAnswered(day, _answered(by_day.get(day, Counter()))) for day in days]
    return VersionAnswered(name, _answered(whole), shown)


def _told(session: Session, ctx: Context, operations: Sequence[int]) -> dict[int, dict[date, _Day]]:
    first = instant_of(ctx.now) // DAY * DAY - (DAYS - 1) * DAY
    cell = (Operation.api_version_id, DailyAnswers.day_us, DailyAnswers.failed, DailyAnswers.band)
    query = (
        select(*cell, func.sum(DailyAnswers.calls))
        .join(Operation, Operation.id == DailyAnswers.operation_id)
        .where(DailyAnswers.day_us >= first, DailyAnswers.operation_id.in_(operations))
        .group_by(*cell)
    )
    found: dict[int, dict[date, _Day]] = {}
    for version, day_us, failed, band, calls in session.execute(query):
        days = found.setdefault(version, {})
        days.setdefault(moment_of(day_us).date(), Counter())[bool(failed), band] += int(calls)
    return found


def _answered(cells: _Day) -> Answered:
    calls = cells.total()
    if calls < LEAST_CALLS:
        return Answered(None, None, None)
    failures = sum(n for (failed, _), n in cells.items() if failed)
    bands: Counter[int] = Counter()
    for (_, band), n in cells.items():
        bands[band] += n
    return Answered(available(calls, failures), *(_ms(within_us(bands, share)) for share in (HALF, MOST)))


def _ms(us: int | None) -> Decimal | None:
    """In milliseconds, to the tenth that is not too little."""
    return None if us is None else (Decimal(us) / 1000).quantize(_TENTH, ROUND_CEILING)
