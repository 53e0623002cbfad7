"""Collecting by card: when an invoice is tried (docs/arithmetic.md, section 5)."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, timedelta

# Days after the due date on which a card is tried.
TRIES_AFTER_DAYS = (0, 1, 3, 7)


def next_try(due: date, tried: int, tries_after_days: Sequence[int] = TRIES_AFTER_DAYS) -> date | None:
    """The day of the next try after so many that failed, or None after the last."""
    return due + timedelta(days=tries_after_days[tried]) if tried < len(tries_after_days) else None
