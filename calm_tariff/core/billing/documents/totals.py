"""Documents of money: what stands on an invoice or a credit note, in which order, and what it comes to
(docs/arithmetic.md, section 5)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Literal

from calm_tariff.core.billing.documents.tax import Taxed, TaxGroup, groups
from calm_tariff.core.money import rounded, total

# Where a line of a document comes from: the period's own charges, those of an earlier period, a person, or a line of
# an issued invoice that is taken back.
Sort = Literal["own", "late", "adjustment", "credit"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Totals:
    """What a document comes to."""

    subtotal: Decimal
    groups: tuple[TaxGroup, ...]
    tax: Decimal
    total: Decimal


def totals(lines: Iterable[Taxed], currency: str) -> Totals:
    """The sums of a document's rounded lines: the tax is the sum of its groups', the total the subtotal plus that."""
    kept = list(lines)
    found = groups(kept, currency)
    subtotal = rounded(total(line.amount for line in kept), currency)
    tax = rounded(total(group.tax for group in found), currency)
    return Totals(subtotal=subtotal, groups=found, tax=tax, total=subtotal + tax)


def nothing_due(amounts: Sequence[Decimal], wants_zero_invoices: bool = False) -> bool:
    """Whether a draft with these lines is kept as *nothing due* instead of being issued."""
    return not wants_zero_invoices and not any(amounts)
