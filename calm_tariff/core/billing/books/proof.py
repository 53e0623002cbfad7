"""The books: that what was recorded, counted, charged and booked agrees, each sum computed apart from the others; and
which do not (docs/arithmetic.md, section 7)."""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Mapping
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Literal, TypeVar

from calm_tariff.core.prices import ZERO

Check = Literal["calls", "units", "charges", "documents", "numbers", "accounts", "money", "journal", "handoff"]
# What each of them proves.
CHECKS: Mapping[Check, str] = {
    "calls": "Calls recorded are those that the sums of hours and of days tell of",
    "units": "Units of the calls are the sums of the hours, and those of the days",
    "charges": "Units recorded are those on documents, and those that are on none for a reason",
    "documents": "Documents are what their lines come to, and their evidence",
    "numbers": "Numbers run without a gap, and files are as they were written",
    "accounts": "Documents are the entries of accounts, and entries went where they went",
    "money": "What bank and cards moved is what was booked of it",
    "journal": "Entries of accounts are what the journal posts, and closed months are as they were",
    "handoff": "Units billed outside were handed on, or wait; what was handed on is as it was sent",
}
K = TypeVar("K", bound=Hashable)


@dataclass(frozen=True, slots=True, kw_only=True)
class Difference:
    """Two sums that should be equal, and are not: which check, in words what it is about, and what each table says of
    it. A period is known by its first day; `verdict` is that of the calls it is about, where it is about calls."""

    check: Check
    what: str
    sums: tuple[tuple[str, Decimal], ...]
    period: date | None = None
    subscription_id: int | None = None
    meter_id: int | None = None
    consumer_id: int | None = None
    document_id: int | None = None
    verdict: str = ""

    @property
    def by(self) -> Decimal:
        """By how much the first and the last of them differ."""
        return self.sums[0][1] - self.sums[-1][1]


@dataclass(frozen=True, slots=True, kw_only=True)
class Proof:
    """What came of one check: how many sums were compared, what they come to in all by table, and what differs."""

    check: Check
    compared: int
    sums: tuple[tuple[str, Decimal], ...]
    differences: tuple[Difference, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Units:
    """Units of one meter of one subscription in one period, by where they are: `recorded` is what their calls come to,
    None where those are no longer kept; on issued documents (`charged`), on those of which nothing was due, free (of a
    trial, or without a price), not charged yet, late ones that wait for the next invoice (below 0 where fewer are
    recorded now), and those that are billed `outside`."""

    recorded: Decimal | None = None
    charged: Decimal = ZERO
    nothing_due: Decimal = ZERO
    free: Decimal = ZERO
    running: Decimal = ZERO
    late: Decimal = ZERO
    outside: Decimal = ZERO

    @property
    def accounted(self) -> Decimal:
        """All of them but what the calls say."""
        return self.charged + self.nothing_due + self.free + self.running + self.late + self.outside

    @property
    def agree(self) -> bool:
        """Whether none is missing, and none too many."""
        return self.recorded is None or self.recorded == self.accounted


def unequal(tables: Mapping[str, Mapping[K, Decimal]]) -> Iterator[tuple[K, tuple[tuple[str, Decimal], ...]]]:
    """Where tables do not say the same: what it is about, and what each says of it. What a table does not know is 0."""
    keys: dict[K, None] = {}
    for said in tables.values():
        keys.update(dict.fromkeys(said))
    for key in keys:
        sums = tuple((name, said.get(key, ZERO)) for name, said in tables.items())
        if len({amount for _, amount in sums}) > 1:
            yield key, sums
