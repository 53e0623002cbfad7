"""Adjustments: lines that a person adds to a draft (docs/arithmetic.md, section 5)."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from calm_tariff.core import names, reasons
from calm_tariff.core.billing.documents.tax import TREATMENTS, Treatment
from calm_tariff.core.errors import Invalid
from calm_tariff.core.money import rounded

LONGEST_WORDS = 200


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """A line as somebody wants it: what stands on the invoice (`words`), its amount before tax, above 0 to charge more
    and below to charge less, how it is taxed, and why, for the record."""

    words: str
    amount: Decimal
    treatment: Treatment
    reason: str


def checked(wanted: Wanted, currency: str) -> Wanted:
    """The same as it is kept. Raises `Invalid`, naming the field."""
    words = names.plain(wanted.words, "words", LONGEST_WORDS)
    reason = reasons.given(wanted.reason)
    if wanted.treatment not in TREATMENTS:
        raise Invalid(f"must be one of {', '.join(TREATMENTS)}", "treatment")
    if not wanted.amount.is_finite() or wanted.amount == 0:
        raise Invalid("must be an amount other than 0", "amount")
    if abs(wanted.amount) >= Decimal(10) ** 15:
        raise Invalid("is more than can be charged", "amount")
    if wanted.amount != rounded(wanted.amount, currency):
        raise Invalid(f"must be in whole minor units of {currency}", "amount")
    return Wanted(words=words, amount=rounded(wanted.amount, currency), treatment=wanted.treatment, reason=reason)
