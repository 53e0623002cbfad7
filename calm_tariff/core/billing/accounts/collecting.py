"""Collecting by card: when an invoice is tried (docs/arithmetic.md, section 5)."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import date, timedelta

from calm_tariff.core.errors import Invalid

# Days after the due date on which a card is tried.
TRIES_AFTER_DAYS = (0, 1, 3, 7)
MOST_TRIES = 10
MOST_DAYS = 60


def check(tries_after_days: Sequence[int]) -> None:
    """Raise `Invalid`, naming the field, for tries that mean nothing."""
    if len(tries_after_days) > MOST_TRIES:
        raise Invalid(f"must be {MOST_TRIES} at most", "tries_after_days")
    for place, days in enumerate(tries_after_days):
        at = f"tries_after_days[{place}]"
        if not 0 <= days <= MOST_DAYS:
            raise Invalid(f"must be 0 to {MOST_DAYS} days", at)
        if place and days <= tries_after_days[place - 1]:
            raise Invalid("must be more than the one before it", at)


def to_try(due: date, tried: Collection[date], tries_after_days: Sequence[int], today: date) -> date | None:
    """The planned day whose try is to be made now, or None. One that was missed before it is not made up for, and
    whatever was tried on that day or since, by whom ever, is that try (`tried` are those days)."""
    last = max((day for day in planned(due, tries_after_days) if day <= today), default=None)
    return None if last is None or any(day >= last for day in tried) else last


def next_try(due: date, tried: Collection[date], tries_after_days: Sequence[int], today: date) -> date | None:
    """The day of the next try, or None after the last: today, where one is to be made now."""
    if to_try(due, tried, tries_after_days, today) is not None:
        return today
    return min((day for day in planned(due, tries_after_days) if day > today), default=None)


def planned(due: date, tries_after_days: Sequence[int]) -> tuple[date, ...]:
    """The days on which an invoice is tried as long as something is open of it."""
    return tuple(due + timedelta(days=days) for days in tries_after_days)
