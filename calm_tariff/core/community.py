"""What developers say of products: questions, answers and ratings, by whom they may be written, and what becomes of
them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from decimal import ROUND_HALF_EVEN, Decimal
from typing import Literal

from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.names import plain

# How a title and a text are kept.
LONGEST_TITLE, LONGEST_TEXT, LONGEST_REASON = 160, 10_000, 500
LEAST, MOST = 1, 5
STARS = range(LEAST, MOST + 1)
_TENTH = Decimal("0.1")

Post = Literal["question", "answer"]
# What a question waits for: somebody's first answer, its asker's word on whether one helped, or nothing more.
Standing = Literal["not answered", "answered", "settled"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Author:
    """Who wrote something: a member of a consumer, or, with neither, the provider."""

    member: int | None = None
    consumer: int | None = None

    @property
    def official(self) -> bool:
        """Whether the provider says it."""
        return self.consumer is None


@dataclass(frozen=True, slots=True)
class Distribution:
    """How many organisations gave each of one to five."""

    counts: Mapping[int, int]

    @property
    def ratings(self) -> int:
        """How many there are."""
        return sum(self.counts.values())

    @property
    def average(self) -> Decimal | None:
        """Their mean to a tenth, halves to even; None where there are none."""
        if not self.ratings:
            return None
        total = sum(stars * count for stars, count in self.counts.items())
        return (Decimal(total) / self.ratings).quantize(_TENTH, ROUND_HALF_EVEN)


def title(text: str) -> str:
    """A question's title, as it is kept. Raises `Invalid`."""
    return plain(text, "title", LONGEST_TITLE)


def text(typed: str, field: str = "text", at_most: int = LONGEST_TEXT) -> str:
    """What a question or answer says (Markdown), or a reason, as it is kept. Raises `Invalid`, naming the field."""
    said = typed.strip()
    if not said:
        raise Invalid("must not be empty", field)
    if len(said) > at_most:
        raise Invalid(f"must be at most {at_most:,} characters long", field)
    return said


def reason(typed: str) -> str:
    """Why something is reported or hidden, as it is kept. Raises `Invalid`."""
    return text(typed, "reason", LONGEST_REASON)


def stars(given: int) -> int:
    """A rating. Raises `Invalid`."""
    if given not in STARS:
        raise Invalid(f"must be a whole number from {LEAST} to {MOST}", "stars")
    return given


def standing(answers: int, accepted: bool) -> Standing:
    """Where a question stands that has so many answers that can be read."""
    return "settled" if accepted else "answered" if answers else "not answered"


def changes(post: Author, who: Author) -> None:
    """Whoever wrote it may change it and take it back; for the provider all of its people speak. Raises
    `Conflict`."""
    if post.member != who.member or post.consumer != who.consumer:
        raise Conflict("whoever wrote it changes it", "the text")


def may_accept(question: Author, who: Author) -> bool:
    """Whether an answer helped is said by those for whom it was asked, its organisation's members, or by the
    provider."""
    return who.official or question.consumer == who.consumer


def may_report(post: Author, who: Author) -> bool:
    """What others wrote can be reported; not what the provider did, nor one's own organisation."""
    return not post.official and post.consumer != who.consumer
