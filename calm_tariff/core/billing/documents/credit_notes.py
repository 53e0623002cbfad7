"""Credit notes: what of an issued invoice may still be taken back (docs/arithmetic.md, section 5)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal

from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.prices import ZERO


@dataclass(frozen=True, slots=True, kw_only=True)
class Creditable:
    """A line of an issued invoice, with what earlier credit notes took from it. All of it has the line's sign."""

    line: int
    amount: Decimal
    credited: Decimal = ZERO

    @property
    def left(self) -> Decimal:
        """What may still be taken back."""
        return self.amount - self.credited


@dataclass(frozen=True, slots=True, kw_only=True)
class Taken:
    """So much taken back of a line."""

    line: int
    amount: Decimal


def check(lines: Sequence[Creditable], taken: Sequence[Taken], field: str = "lines") -> None:
    """See that a credit note takes something, from lines that are there, each once, and of none more than is left of
    it. Raises `Invalid` or `Conflict`, naming the place."""
    by_line = {each.line: each for each in lines}
    seen: set[int] = set()
    if not taken:
        raise Invalid("names no line", field)
    for place, each in enumerate(taken):
        at = f"{field}[{place}]"
        if each.line not in by_line:
            raise Invalid("is no line of the invoice", f"{at}.line")
        if each.line in seen:
            raise Invalid("is named twice", f"{at}.line")
        seen.add(each.line)
        left = by_line[each.line].left
        if each.amount == 0:
            raise Invalid("must not be 0", f"{at}.amount")
        if (each.amount < 0) != (left < 0) or abs(each.amount) > abs(left):
            raise Conflict(f"is more than the {left} left of the line", f"{at}.amount")


def whole(lines: Iterable[Creditable]) -> tuple[Taken, ...]:
    """All that is left of an invoice's lines."""
    return tuple(Taken(line=each.line, amount=each.left) for each in lines if each.left)


def spread(amount: Decimal, lines: Iterable[Creditable]) -> Mapping[int, Decimal]:
    """An amount to be taken back from the lines on which one charge stands: from the first as much as is left of it,
    then from the next. Raises `Conflict` for more than is left of all."""
    found: dict[int, Decimal] = {}
    for each in lines:
        part = min(amount, each.left) if amount > 0 else max(amount, each.left)
        if part and (part > 0) == (amount > 0):
            found[each.line] = part
            amount -= part
    if amount:
        raise Conflict(f"is {amount} more than is left of its lines", "amount")
    return found


@dataclass(frozen=True, slots=True)
class LeftOfGroup:
    """What earlier credit notes left of a tax group of an invoice: of its lines, and of its tax."""

    base: Decimal
    tax: Decimal

    def less(self, base: Decimal, tax: Decimal) -> LeftOfGroup:
        """What one more note leaves, which takes back so much of the lines and of the tax."""
        return LeftOfGroup(self.base - base, self.tax - tax)


def tax_back(base: Decimal, tax: Decimal, left: LeftOfGroup | None) -> Decimal:
    """The tax that a credit note gives back of a group of its lines: their own `tax`, rounded for itself as any
    document's; but with all that is left of the invoice's group goes all that is left of its tax, so that the notes
    come to what the invoice did."""
    return left.tax if left is not None and base == left.base else tax


def borne(amount: Decimal, notes: Mapping[int, Decimal], own: int) -> Mapping[int, Decimal]:
    """On which credit notes an amount stands, that none comes to less than nothing: on its `own`; but what is below 0
    and more than that gives back is borne by the one that gives back most, and then the next. `notes` is what each
    gives back so far. What is more than all of them stays with its own."""
    if notes.get(own, ZERO) + amount >= 0:
        return {own: amount}
    found: dict[int, Decimal] = {}
    for note, gives in sorted(notes.items(), key=lambda each: (-each[1], each[0])):
        part = max(amount, -gives)
        if part < 0:
            found[note] = part
            amount -= part
    if amount:
        found[own] = found.get(own, ZERO) + amount
    return found
