"""What of a draft is out of the ordinary, so that whoever reviews a month sees that first."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Literal

from calm_tariff.core.money import total
from calm_tariff.core.prices import ZERO

Kind = Literal[
    "negative", "up", "down", "usage still arriving", "no payment method", "first invoice", "adjusted", "nothing due"
]
# The order in which drafts are shown: what weighs more comes first. A change weighs more the greater it is.
WEIGHTS: dict[Kind, int] = {
    "negative": 8000,
    "up": 4000,
    "down": 4000,
    "usage still arriving": 2000,
    "no payment method": 1000,
    "first invoice": 500,
    "adjusted": 200,
    "nothing due": 1,
}
# A change of so many percent against the mean of the last months is out of the ordinary, if it is not told otherwise.
USUAL_CHANGE = 30
MONTHS = 3


@dataclass(frozen=True, slots=True, kw_only=True)
class Facts:
    """What is known of a draft: its subtotal, those of the consumer's invoices of the last months (none where there was
    none), whether it comes to anything (`nothing`), whether its consumer has said how it pays, whether a person
    adjusted it, and how many units came since it was last computed."""

    subtotal: Decimal
    before: Sequence[Decimal]
    nothing: bool = False
    pays: bool = True
    adjusted: bool = False
    arrived: Decimal = ZERO


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """One thing out of the ordinary. `mean` is that of the months a change is held against, `percent` how much of it
    that change is, in whole percent; None where the mean is nothing. `units` are those that came."""

    kind: Kind
    mean: Decimal | None = None
    percent: int | None = None
    units: Decimal | None = None


def findings(of: Facts, change_percent: int = USUAL_CHANGE) -> tuple[Finding, ...]:
    """What is out of the ordinary, the weightiest first."""
    found = []
    if of.subtotal < 0:
        found.append(Finding(kind="negative"))
    change = _change(of, change_percent)
    if change is not None:
        found.append(change)
    if of.arrived:
        found.append(Finding(kind="usage still arriving", units=of.arrived))
    if not of.pays and of.subtotal > 0:
        found.append(Finding(kind="no payment method"))
    if not of.before:
        found.append(Finding(kind="first invoice"))
    if of.adjusted:
        found.append(Finding(kind="adjusted"))
    if of.nothing:
        found.append(Finding(kind="nothing due"))
    return tuple(found)


def _change(of: Facts, change_percent: int) -> Finding | None:
    """A subtotal that is more than so many percent above or below the mean of the last months. Where that was nothing,
    anything is more."""
    if not of.before:
        return None
    sum_before, months = total(of.before), len(of.before)
    # subtotal − mean, times the months: exact, as a mean in thirds is not.
    more = of.subtotal * months - sum_before
    if abs(more) * 100 <= change_percent * abs(sum_before):
        return None
    percent = int(abs(more) * 100 / abs(sum_before)) if sum_before else None
    return Finding(kind="up" if more > 0 else "down", mean=sum_before / months, percent=percent)


def weight(found: Sequence[Finding]) -> int:
    """How far out of the ordinary it is, altogether: 0 where nothing is."""
    changes = [999 if each.percent is None else each.percent for each in found if each.mean is not None]
    return sum(WEIGHTS[each.kind] for each in found) + sum(min(change, 999) for change in changes)
