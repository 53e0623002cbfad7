"""What later knowledge changes of a period already issued: late lines, and what is to be credited
(docs/arithmetic.md, section 5)."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Literal

from calm_tariff.core.errors import Invalid
from calm_tariff.core.money import rounded, total
from calm_tariff.core.prices import ZERO
from calm_tariff.core.rating import Line, LineKind, RatingCase, rate

Of = Literal["invoice", "late", "credit"]
# Kinds of line that follow from the others of their segment.
CONSEQUENCES = frozenset({"discount", "minimum", "cap"})


@dataclass(frozen=True, slots=True, kw_only=True)
class Charged:
    """A line that stands on an issued document: of the period's own invoice, a late line of a later one, or what a
    credit note took from it, given as it took it. `quantity` are a usage line's units, where they are known."""

    segment: int
    kind: LineKind
    meter: str | None
    amount: Decimal
    of: Of = "invoice"
    quantity: Decimal | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class LateCase:
    """A rating case with the usage as now recorded, and all that was charged for the same period before."""

    case: RatingCase
    charged: tuple[Charged, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Difference:
    """What a line has to be charged more, or less (below 0), than it was. `nth` of the lines of its segment, kind and
    meter; `quantity` is the units it has more, of a usage line; `now` is the line as it is computed now, if it still
    is one."""

    segment: int
    kind: LineKind
    meter: str | None
    nth: int
    amount: Decimal
    quantity: Decimal | None
    now: Line | None


# Segment, kind, meter, and which of the lines that share these.
LineKey = tuple[int, LineKind, str | None, int]


@dataclass(frozen=True, slots=True, kw_only=True)
class Sum:
    """What documents of one sort say of one line, all of them together."""

    amount: Decimal = ZERO
    quantity: Decimal | None = None

    def and_also(self, amount: Decimal, quantity: Decimal | None) -> Sum:
        """With what another one says."""
        known = None if self.quantity is None and quantity is None else (self.quantity or ZERO) + (quantity or ZERO)
        return Sum(amount=self.amount + amount, quantity=known)


def as_charged(of: Of, sums: Mapping[LineKey, Sum]) -> tuple[Charged, ...]:
    """Sums by line as the lines of a case: each once, however many documents it is on, and in its place among those
    alike, with nothing for one of them that no document names."""
    alike: dict[tuple[int, LineKind, str | None], int] = {}
    for segment, kind, meter, nth in sums:
        alike[segment, kind, meter] = max(nth + 1, alike.get((segment, kind, meter), 0))
    found = []
    for (segment, kind, meter), many in alike.items():
        for nth in range(many):
            each = sums.get((segment, kind, meter, nth), Sum())
            found.append(
                Charged(segment=segment, kind=kind, meter=meter, amount=each.amount, of=of, quantity=each.quantity)
            )
    return tuple(found)


def differences(late: LateCase) -> tuple[Difference, ...]:
    """Amount now − charged so far, line by line in the order of section 3; those the case no longer has come last.
    Differences of 0 are left out.

    Where several lines share segment, kind and meter, the first belongs to the first, and so on. Raises `Invalid`,
    naming the field, for a case that cannot be computed or an amount that no line can have.
    """
    charge = rate(late.case)
    currency = late.case.currency
    so_far, units = _charged(late.charged, currency)
    found = []
    counted: Counter[tuple[int, LineKind, str | None]] = Counter()
    for line in charge.lines:
        place = (line.segment, line.kind, line.meter)
        key = (*place, counted[place])
        counted[place] += 1
        amount = line.amount - so_far.pop(key, ZERO)
        if amount:
            more = None if line.quantity is None else line.quantity - units.get(key, ZERO)
            found.append(_difference(key, rounded(amount, currency), more, line))
    for key, amount in so_far.items():
        if amount:
            gone = -units[key] if key in units else None
            found.append(_difference(key, rounded(-amount, currency), gone, None))
    return tuple(found)


def _charged(lines: Iterable[Charged], currency: str) -> tuple[dict[LineKey, Decimal], dict[LineKey, Decimal]]:
    """Amounts and units charged so far, by line."""
    amounts: dict[LineKey, Decimal] = {}
    units: dict[LineKey, Decimal] = {}
    counted: Counter[tuple[Of, int, LineKind, str | None]] = Counter()
    for place, line in enumerate(lines):
        if line.segment < 0:
            raise Invalid("must not be below 0", f"charged[{place}].segment")
        if line.amount != rounded(line.amount, currency):
            raise Invalid(f"must be in whole minor units of {currency}", f"charged[{place}].amount")
        of = (line.of, line.segment, line.kind, line.meter)
        key = (line.segment, line.kind, line.meter, counted[of])
        counted[of] += 1
        sign = -1 if line.of == "credit" else 1
        amounts[key] = amounts.get(key, ZERO) + sign * line.amount
        if line.quantity is not None:
            units[key] = units.get(key, ZERO) + sign * line.quantity
    return amounts, units


def _difference(key: LineKey, amount: Decimal, quantity: Decimal | None, now: Line | None) -> Difference:
    segment, kind, meter, nth = key
    return Difference(segment=segment, kind=kind, meter=meter, nth=nth, amount=amount, quantity=quantity, now=now)


def subtotal(found: Iterable[Difference], currency: str) -> Decimal:
    """The sum of differences, in the currency's minor unit."""
    return rounded(total(each.amount for each in found), currency)


@dataclass(frozen=True, slots=True, kw_only=True)
class Parted:
    """Differences by what becomes of them: `late` lines of the next invoice, and those `credited`."""

    late: tuple[Difference, ...]
    credited: tuple[Difference, ...]


def parted(found: Sequence[Difference]) -> Parted:
    """Above 0 is charged late, below 0 is credited. A discount, minimum or cap has no reason of its own: it goes where
    the rest of its segment goes, so that nobody is charged 10 late and credited the same 10 because a cap holds. Thus
    neither part of a segment ever comes to less than nothing.
    """
    own: dict[int, Decimal] = {}
    for each in found:
        if each.kind not in CONSEQUENCES:
            own[each.segment] = own.get(each.segment, ZERO) + each.amount
    late: list[Difference] = []
    credited: list[Difference] = []
    for each in found:
        deciding = own.get(each.segment, each.amount) if each.kind in CONSEQUENCES else each.amount
        (late if deciding >= 0 else credited).append(each)
    return Parted(late=tuple(late), credited=tuple(credited))
