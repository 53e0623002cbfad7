"""Metered units by the provider's local days, which need not be UTC days: what a line of an invoice opens into."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal
from zoneinfo import ZoneInfo

from sqlalchemy import Select, func, select, union_all
from sqlalchemy.orm import Session

from calm_tariff.core.periods import DAY, HOUR, day_start, local_day
from calm_tariff.store.serve import usage_queries
from calm_tariff.store.serve.usage import DailyUsage, HourlyUsage

ZERO = Decimal(0)


def units_by_day(
    session: Session, start_us: int, end_us: int, subscriptions: Sequence[int], where: ZoneInfo
) -> dict[tuple[int, int], dict[date, Decimal]]:
    """What subscriptions counted in [start, end), by (stay, meter) and the provider's local day; days of nothing are
    not there, nor is who counted nothing.

    Where the zone's midnights are no whole UTC hours, each day is read by itself.
    """
    days = [local_day(start_us, where)]
    while (after := days[-1] + timedelta(days=1)) and day_start(after, where) < end_us:
        days.append(after)
    bounds = [max(start_us, day_start(day, where)) for day in days] + [end_us]
    found: dict[tuple[int, int], dict[date, Decimal]] = {}
    if not subscriptions:
        return found
    if any(bound % HOUR for bound in bounds):
        for day, begin, end in zip(days, bounds[:-1], bounds[1:], strict=True):
            for key, units in usage_queries.units_by_stay(session, begin, end, subscriptions).items():
                found.setdefault(key, {})[day] = units
    else:
        laid = _Laid.over(bounds)
        for stay, meter, told in session.execute(_by_day(laid, subscriptions)):
            sums = laid.summed(_pairs(told))
            found[stay, meter] = {days[n]: units for n, units in sums.items()}
    counted = {key: {day: units for day, units in of.items() if units} for key, of in found.items()}
    return {key: of for key, of in counted.items() if of}


@dataclass(frozen=True, slots=True)
class _Laid:
    """Local days laid over UTC days: a UTC day counts for the local day that its noon is on, and those of its hours
    that are on another (`moved`, by their place from `first_us`) are taken there. So one sum of a day stands for most
    of its hours. `own` is the local day of each hour, `noon` that of each UTC day; None for what is none of these."""

    first_us: int
    own: tuple[int | None, ...]
    noon: tuple[int | None, ...]
    moved: frozenset[int]

    @classmethod
    def over(cls, bounds: Sequence[int]) -> _Laid:
        """Local days that begin and end at whole hours: each at a bound, the last ends at the last."""
        first, last = bounds[0] // DAY * DAY, -(-bounds[-1] // DAY) * DAY
        own = tuple(_place(bounds, at) for at in range(first, last, HOUR))
        noon = own[12::24]
        return cls(first, own, noon, frozenset(n for n, day in enumerate(own) if day != noon[n // 24]))

    @property
    def last_us(self) -> int:
        """Where the last UTC day ends."""
        return self.first_us + len(self.noon) * DAY

    def summed(self, told: Iterable[tuple[int, Decimal]]) -> dict[int, Decimal]:
        """Units by local day, of UTC days (told at -1 for the first, -2 for the second) and of hours (from 0)."""
        sums: dict[int | None, Decimal] = {}
        for place, units in told:
            if place < 0:
                day = self.noon[-1 - place]
                sums[day] = sums.get(day, ZERO) + units
            elif place in self.moved:
                day, noon = self.own[place], self.noon[place // 24]
                sums[day], sums[noon] = sums.get(day, ZERO) + units, sums.get(noon, ZERO) - units
        return {day: units for day, units in sums.items() if day is not None}


def _place(bounds: Sequence[int], at_us: int) -> int | None:
    """Between which two bounds an instant is."""
    place = bisect_right(bounds, at_us) - 1
    return place if 0 <= place < len(bounds) - 1 else None


def _by_day(laid: _Laid, subscriptions: Sequence[int]) -> Select[int, int, str]:
    """Days, and the hours that may be moved, as `_Laid.summed` takes them. One statement, so that both are of one
    moment; one row for each stay and meter, since reading rows is what takes the time."""
    of_days = select(
        DailyUsage.stay_id,
        DailyUsage.meter_id,
        (-1 - func.floor((DailyUsage.day_us - laid.first_us) / DAY)).label("place"),
        DailyUsage.units,
    ).where(
        DailyUsage.subscription_id.in_(subscriptions),
        DailyUsage.day_us >= laid.first_us,
        DailyUsage.day_us < laid.last_us,
    )
    place = func.floor((HourlyUsage.hour_us - laid.first_us) / HOUR).label("place")
    of_hours = (
        select(HourlyUsage.stay_id, HourlyUsage.meter_id, place, func.sum(HourlyUsage.units).label("units"))
        .where(
            HourlyUsage.subscription_id.in_(subscriptions),
            HourlyUsage.hour_us >= laid.first_us,
            HourlyUsage.hour_us < laid.last_us,
            (HourlyUsage.hour_us % DAY).in_(sorted({n % 24 * HOUR for n in laid.moved})),
        )
        .group_by(HourlyUsage.stay_id, HourlyUsage.meter_id, place)
    )
    each = (union_all(of_days, of_hours) if laid.moved else of_days).subquery()
    together = func.group_concat(each.c.place, ":", each.c.units)
    return select(each.c.stay_id, each.c.meter_id, together).group_by(each.c.stay_id, each.c.meter_id)


def _pairs(told: str) -> Iterator[tuple[int, Decimal]]:
    for place, units in (each.split(":") for each in told.split(",")):
        yield int(place), Decimal(units)
