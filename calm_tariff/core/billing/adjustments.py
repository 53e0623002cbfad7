"""Adjustments: lines that a person adds to a draft (docs/arithmetic.md, section 5)."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from calm_tariff.core import names
from calm_tariff.core.billing.tax import TREATMENTS, Treatment
from calm_tariff.core.errors import Invalid, NotAllowed
from calm_tariff.core.money import rounded

LONGEST_WORDS, LONGEST_REASON = 200, 2000


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
    reason = wanted.reason.strip()
    if not reason:
        raise Invalid("say why", "reason")
    if len(reason) > LONGEST_REASON:
        raise Invalid(f"must have at most {LONGEST_REASON} characters", "reason")
    if wanted.treatment not in TREATMENTS:
        raise Invalid(f"must be one of {', '.join(TREATMENTS)}", "treatment")
    if not wanted.amount.is_finite() or wanted.amount == 0:
        raise Invalid("must be an amount other than 0", "amount")
    if abs(wanted.amount) >= Decimal(10) ** 15:
        raise Invalid("is more than can be charged", "amount")
    if wanted.amount != rounded(wanted.amount, currency):
        raise Invalid(f"must be in whole minor units of {currency}", "amount")
    return Wanted(words=words, amount=rounded(wanted.amount, currency), treatment=wanted.treatment, reason=reason)


def needs_second(amount: Decimal, limit: Decimal | None) -> bool:
    """Whether an amount, up or down, takes a second person's agreement."""
    return limit is not None and abs(amount) > limit


def refuse_own(made_by: str, agreeing: str) -> None:
    """Two people are two: raise `NotAllowed` where somebody, by id, agrees to what they made."""
    if made_by == agreeing:
        raise NotAllowed("somebody else has to agree to it")
