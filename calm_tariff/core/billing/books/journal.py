"""The journal: one entry for each document, payment, refund and write-off, each of postings whose sum is 0
(docs/arithmetic.md, section 7)."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from decimal import Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class NamedPosting:
    """An amount on an account by the bookkeeper's name: above 0 is debit, below is credit."""

    account: str
    amount: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class JournalEntry:
    """What was booked on a day (`on`), with whom, and what it posts. `id` is that of the entry of the consumer's
    account; `reference` the number of the document that it is or names, which has `document_id`. Of money, `value_on`
    is its day by the bank's books."""

    id: int
    on: date
    kind: str
    consumer_id: int
    consumer: str
    reference: str
    document_id: int | None
    value_on: date | None
    postings: tuple[NamedPosting, ...]
