"""What the books are looked through by: one moment of the database, and the months there are."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, date, datetime
from functools import cached_property
from zoneinfo import ZoneInfo

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.periods import day_start, instant_of, local_day, month_of, month_step, zone
from calm_tariff.services.base.context import Context
from calm_tariff.store.base.provider import Provider
from calm_tariff.store.serve import whole_sums
from calm_tariff.store.settle.money_documents import MoneyDocument


@dataclass(frozen=True)
class Looking:
    """One moment of the database. `periods` are the first days of all months that calls or documents are of, the oldest
    first; calls since `kept_us` are there call by call, older ones as sums."""

    session: Session
    where: ZoneInfo
    currency: str
    periods: tuple[date, ...]
    kept_us: int

    @cached_property
    def starts(self) -> list[int]:
        """When the periods begin, and the last ends."""
        days = [*self.periods, month_step(self.periods[-1], 1)] if self.periods else []
        return [day_start(day, self.where) for day in days]

    @cached_property
    def utc_months(self) -> list[int]:
        """When the calendar months of UTC begin that the periods lie in, and the last ends: sums of days are by UTC."""
        if not self.periods:
            return []
        first, last = (datetime.fromtimestamp(at / 1e6, UTC).date() for at in (self.starts[0], self.starts[-1] - 1))
        month, found = month_of(first).start, []
        while month <= last:
            found.append(instant_of(datetime(month.year, month.month, 1, tzinfo=UTC)))
            month = month_step(month, 1)
        return [*found, instant_of(datetime(month.year, month.month, 1, tzinfo=UTC))]

    @cached_property
    def cuts(self) -> list[int]:
        """Where either begins, in order."""
        return sorted({*self.starts, *self.utc_months})

    def period_at(self, at_us: int) -> date | None:
        """The period that an instant lies in, if any."""
        place = bisect_right(self.starts, at_us) - 1
        return self.periods[place] if 0 <= place < len(self.periods) else None

    def utc_month_at(self, at_us: int) -> date:
        """The first day of the calendar month of UTC that an instant lies in."""
        return datetime.fromtimestamp(at_us / 1e6, UTC).date().replace(day=1)

    def is_kept(self, at_us: int) -> bool:
        """Whether calls from an instant on are kept."""
        return at_us >= self.kept_us


@contextmanager
def looking(ctx: Context) -> Iterator[Looking]:
    """The database as it is at one moment, however long it is looked at, and whatever is written meanwhile."""
    with ctx.reading() as session:
        # An installation that nobody has set up has books, too: empty ones.
        provider = session.scalars(select(Provider)).one_or_none()
        where = zone(provider.time_zone if provider is not None else "UTC")
        since = provider.calls_from if provider is not None else None
        yield Looking(
            session=session,
            where=where,
            currency=provider.currency if provider is not None else "EUR",
            periods=_periods(session, where),
            kept_us=day_start(since, where) if since else 0,
        )


def _periods(session: Session, where: ZoneInfo) -> tuple[date, ...]:
    """From the first month that anything is of to the last."""
    first, last = whole_sums.first(session), whole_sums.last(session)
    charged = session.execute(select(func.min(MoneyDocument.period_start), func.max(MoneyDocument.period_start))).one()
    days = [] if first is None else [local_day(first, where), local_day(last - 1, where)]
    days += [day for day in charged if day is not None]
    found: list[date] = []
    month = month_of(min(days)).start if days else date.max
    while days and month <= max(days):
        found.append(month)
        month = month_step(month, 1)
    return tuple(found)
