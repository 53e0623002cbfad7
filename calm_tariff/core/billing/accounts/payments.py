"""Payments and refunds that a person books by hand (docs/arithmetic.md, section 5)."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal
from typing import Literal

from calm_tariff.core import names
from calm_tariff.core.errors import Invalid
from calm_tariff.core.money import rounded

# How money comes in and goes out: over the payment processor or the bank.
Way = Literal["card", "transfer"]
LONGEST_REFERENCE = 140


@dataclass(frozen=True, slots=True, kw_only=True)
class Money:
    """Money as it came in or went out: how much, on which day by the bank's or the processor's books (`value_on`), and
    what they say of it."""

    amount: Decimal
    value_on: date
    reference: str = ""


def checked(money: Money, currency: str, today: date) -> Money:
    """The same as it is kept. Raises `Invalid`, naming the field."""
    if not money.amount.is_finite() or money.amount <= 0:
        raise Invalid("must be an amount above 0", "amount")
    if money.amount >= Decimal(10) ** 15:
        raise Invalid("is more than can be booked", "amount")
    if money.amount != rounded(money.amount, currency):
        raise Invalid(f"must be in whole minor units of {currency}", "amount")
    if money.value_on > today:
        raise Invalid("must not lie after today", "value_on")
    reference = names.plain(money.reference, "reference", LONGEST_REFERENCE) if money.reference.strip() else ""
    return replace(money, amount=rounded(money.amount, currency), reference=reference)
