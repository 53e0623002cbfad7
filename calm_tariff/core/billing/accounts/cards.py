"""A card that invoices are paid by, as far as it is known here: never its number (docs/arithmetic.md, section 5)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from typing import Literal, get_args

# Why a payment processor did not take money from a card.
Failure = Literal["no cover", "refused", "blocked", "expired", "unknown card"]
FAILURES: tuple[Failure, ...] = get_args(Failure)
_WORDS: Mapping[Failure, str] = {
    "no cover": "there is no cover for it",
    "refused": "its bank refused it",
    "blocked": "it is blocked",
    "expired": "it has expired",
    "unknown card": "the payment processor does not know it any more",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Card:
    """A card: whose it is (`brand`), its last four digits, and the first day on which it is good no more."""

    brand: str
    last_four: str
    ends_on: date

    @property
    def in_words(self) -> str:
        """How it is spoken of."""
        return f"{self.brand} ending in {self.last_four}"

    def over(self, today: date) -> bool:
        """Whether it is good no more."""
        return today >= self.ends_on


def failure(said: str) -> Failure:
    """Why a card was not charged, as a processor said it; what is not known is a refusal."""
    for each in FAILURES:
        if each == said:
            return each
    return "refused"


def failure_in_words(why: Failure) -> str:
    """The same, after "it could not be charged:"."""
    return _WORDS[why]
