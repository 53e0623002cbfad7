"""Alerts: when a threshold is reached, and by which call (docs/arithmetic.md, section 9)."""

from __future__ import annotations

from collections.abc import Iterable
from decimal import Decimal
from typing import TypeVar

from calm_tariff.core.errors import Invalid

T = TypeVar("T")
MOST_PERCENT = 1000


def percent(value: int, field: str = "percent") -> int:
    """A threshold of an allowance as it is kept. Raises `Invalid`, naming the field."""
    if not 1 <= value <= MOST_PERCENT:
        raise Invalid(f"must be between 1 and {MOST_PERCENT:,}", field)
    return value


def amount(value: Decimal, field: str = "amount") -> Decimal:
    """A threshold of a charge as it is kept. Raises `Invalid`, naming the field."""
    if not value.is_finite() or value <= 0 or value >= 10**12 or value != value.quantize(Decimal("0.0001")):
        raise Invalid("must be an amount above 0, with at most four places", field)
    return value


def reached(used: Decimal, allowance: Decimal, threshold: int) -> bool:
    """Whether so many percent of an allowance are used."""
    return used * 100 >= allowance * threshold


def first_reaching(counted: Iterable[tuple[str, Decimal, T]], allowance: Decimal, threshold: int) -> T | None:
    """The first of what was counted, in its order, with which the count of its subject reached so many percent of an
    allowance: each is a subject, its units, and what is asked for. None where none did."""
    sums: dict[str, Decimal] = {}
    for subject, units, what in counted:
        sums[subject] = sums.get(subject, Decimal(0)) + units
        if units > 0 and reached(sums[subject], allowance, threshold):
            return what
    return None
