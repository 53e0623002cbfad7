"""Handing usage on to whoever bills outside: which hours are due, what is told of each, and what is told later where
more, or less, is recorded of it then.

Source: docs/arithmetic.md, section 8.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from decimal import Decimal
from typing import NamedTuple

from calm_tariff.core.periods import HOUR, MINUTE
from calm_tariff.core.prices import ZERO

# So long after its end an hour is told of: most of what comes late is there by then.
GRACE = 10 * MINUTE


class UsageHour(NamedTuple):
    """An hour of UTC, by the instant it begins at in µs since the epoch, of one meter of one subscription."""

    hour_us: int
    subscription_id: int
    meter_id: int


class Told(NamedTuple):
    """What was told of an hour so far: the number of the last revision, and what all of them come to."""

    revision: int
    units: Decimal


class Revision(NamedTuple):
    """What is to be told of an hour: the first time its units, and then by how many more, or fewer, it differs."""

    of: UsageHour
    number: int
    units: Decimal


NOTHING = Told(0, ZERO)


def due_until(now_us: int) -> int:
    """The instant until which hours are due: those that have ended, and the grace after them."""
    return (now_us - GRACE) // HOUR * HOUR


def next_due(now_us: int) -> int:
    """The instant at which one more hour is due."""
    return due_until(now_us) + HOUR + GRACE


def revisions(recorded: Mapping[UsageHour, Decimal], told: Mapping[UsageHour, Told]) -> list[Revision]:
    """What is to be told so that all that was told of each hour comes to what is recorded of it. Nothing is told of an
    hour of which nothing was ever counted."""
    found = []
    for of in sorted({*recorded, *told}):
        before = told.get(of, NOTHING)
        units = recorded.get(of, ZERO) - before.units
        if units:
            found.append(Revision(of, before.revision + 1, units))
    return found


def event_id(of: UsageHour, number: int) -> str:
    """What a revision is known by: the same whoever tells it, and however often."""
    at = datetime.fromtimestamp(of.hour_us // 1_000_000, UTC)
    return f"{at:%Y-%m-%dT%H:%MZ}/{of.subscription_id}/{of.meter_id}/{number}"
