"""What a consumer owes and is owed, entry by entry, and which payment closed which invoice
(docs/arithmetic.md, section 5)."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Literal

from calm_tariff.core.errors import Invalid
from calm_tariff.core.money import rounded, total
from calm_tariff.core.prices import ZERO

State = Literal["issued", "overdue", "paid", "credited", "written off"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Invoiced:
    """An invoice was issued (+)."""

    id: str
    on: date
    due: date
    amount: Decimal
    kind: Literal["invoice"] = "invoice"


@dataclass(frozen=True, slots=True, kw_only=True)
class Credited:
    """A credit note was issued for an invoice (−)."""

    on: date
    amount: Decimal
    for_: str
    kind: Literal["credit note"] = "credit note"


@dataclass(frozen=True, slots=True, kw_only=True)
class Paid:
    """A payment came in (−), for an invoice or for none."""

    on: date
    amount: Decimal
    for_: str | None = None
    kind: Literal["payment"] = "payment"


@dataclass(frozen=True, slots=True, kw_only=True)
class Refunded:
    """Credit on account was paid out (+)."""

    on: date
    amount: Decimal
    kind: Literal["refund"] = "refund"


@dataclass(frozen=True, slots=True, kw_only=True)
class WrittenOff:
    """What is open of an invoice will not be paid (−)."""

    on: date
    for_: str
    kind: Literal["write-off"] = "write-off"


Entry = Invoiced | Credited | Paid | Refunded | WrittenOff


@dataclass(frozen=True, slots=True, kw_only=True)
class Open:
    """An invoice as far as it is not closed."""

    id: str
    due: date
    amount: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class Credit:
    """What is left on account of an entry, by its place in the list."""

    entry: int
    amount: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class Allocation:
    """So much of an entry went to an invoice, or was paid out where that is None. The entry is a payment, a credit
    note or a write-off."""

    entry: int
    invoice: str | None
    amount: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class Standing:
    """An invoice on a day. `course` is what was open of it after each day on which that changed."""

    id: str
    due: date
    amount: Decimal
    open: Decimal
    state: State
    course: tuple[tuple[date, Decimal], ...]

    def open_at_end_of(self, day: date) -> Decimal:
        """What was still open when a day ended."""
        return next((left for on, left in reversed(self.course) if on <= day), ZERO)


@dataclass(frozen=True, slots=True, kw_only=True)
class Account:
    """An account on a day: what is open of invoices less the credit on account is the balance."""

    balance: Decimal
    credit: Decimal
    invoices: tuple[Standing, ...]
    allocations: tuple[Allocation, ...]


def allocated(
    entry: Entry, place: int, open_invoices: Iterable[Open], credits: Iterable[Credit]
) -> tuple[Allocation, ...]:
    """What an entry does to what is open. `credits` stand oldest first; of an invoice entry, its own is not among the
    open ones.

    Raises `Invalid`, naming the field of the entry, for a refund beyond the credit on account, and a write-off where
    nothing is open.
    """
    if isinstance(entry, Invoiced):
        return tuple(
            Allocation(entry=each.entry, invoice=entry.id, amount=part) for each, part in _used(entry.amount, credits)
        )
    if isinstance(entry, Refunded):
        given = _used(entry.amount, credits)
        left = entry.amount - total(part for _, part in given)
        if left:
            raise Invalid(f"is {left} more than the credit on account", "amount")
        return tuple(Allocation(entry=each.entry, invoice=None, amount=part) for each, part in given)
    waiting = sorted(open_invoices, key=lambda each: (each.due, by_number(each.id)))
    meant = [each for each in waiting if each.id == entry.for_]
    if isinstance(entry, WrittenOff):
        if not meant:
            raise Invalid(f"names {entry.for_}, of which nothing is open", "for")
        return (Allocation(entry=place, invoice=entry.for_, amount=meant[0].amount),)
    left, found = entry.amount, []
    for each in [*meant, *(other for other in waiting if other not in meant)]:
        part = min(left, each.amount)
        if part:
            found.append(Allocation(entry=place, invoice=each.id, amount=part))
            left -= part
    return tuple(found)


def _used(amount: Decimal, credits: Iterable[Credit]) -> list[tuple[Credit, Decimal]]:
    """An amount taken from credits, as far as they go."""
    found = []
    for each in credits:
        part = min(amount, each.amount)
        if part:
            found.append((each, part))
            amount -= part
    return found


def by_number(number: str) -> tuple[tuple[str, int], ...]:
    """The order of documents' numbers: 99999 comes before 100000."""
    return tuple((words, int(digits or 0)) for words, digits in re.findall(r"(\D*)(\d*)", number))


@dataclass(slots=True)
class _Invoice:
    """An invoice while entries are gone through."""

    entry: Invoiced
    open: Decimal
    course: list[tuple[date, Decimal]]
    by_credit_notes: Decimal = ZERO
    credit_notes: Decimal = ZERO
    written_off: bool = False

    def closed(self, on: date, amount: Decimal) -> None:
        self.open -= amount
        if self.course and self.course[-1][0] == on:
            self.course.pop()
        self.course.append((on, self.open))


def settled(entries: Sequence[Entry], as_of: date, currency: str) -> Account:
    """The account after its entries up to a day; later ones are left out. They stand in order of their days.

    Raises `Invalid`, naming the entry and its field.
    """
    invoices: dict[str, _Invoice] = {}
    credits: dict[int, Decimal] = {}
    kept: list[Allocation] = []
    for place, entry in enumerate(_checked(entries, currency)):
        if entry.on > as_of:
            break
        opened = [Open(id=i, due=x.entry.due, amount=x.open) for i, x in invoices.items() if x.open]
        left = [Credit(entry=each, amount=amount) for each, amount in credits.items() if amount]
        try:
            if isinstance(entry, Credited):
                _within_invoice(entry, invoices[entry.for_])
            found = allocated(entry, place, opened, left)
        except Invalid as error:
            raise Invalid(error.what, f"entries[{place}].{error.where}") from None
        if isinstance(entry, Invoiced):
            invoices[entry.id] = _Invoice(entry, entry.amount, [(entry.on, entry.amount)])
        elif isinstance(entry, Paid | Credited):
            credits[place] = entry.amount
        for each in found:
            if each.entry in credits:
                credits[each.entry] -= each.amount
            if each.invoice is not None:
                invoices[each.invoice].closed(entry.on, each.amount)
        if isinstance(entry, Credited):
            named = (each.amount for each in found if each.invoice == entry.for_)
            invoices[entry.for_].by_credit_notes += total(named)
        if isinstance(entry, WrittenOff):
            invoices[entry.for_].written_off = True
        kept.extend(found)
    credit = rounded(total(credits.values()), currency)
    standing = tuple(_standing(x, as_of, currency) for x in invoices.values())
    balance = rounded(total(each.open for each in standing) - credit, currency)
    return Account(balance=balance, credit=credit, invoices=standing, allocations=tuple(kept))


def _checked(entries: Sequence[Entry], currency: str) -> Iterator[Entry]:
    """The entries one by one, each of which fits those before it."""
    numbers: set[str] = set()
    before: date | None = None
    for place, entry in enumerate(entries):
        at = f"entries[{place}]"
        if before is not None and entry.on < before:
            raise Invalid("must not lie before the entry above it", f"{at}.on")
        before = entry.on
        if not isinstance(entry, WrittenOff):
            if entry.amount <= 0:
                raise Invalid("must be above 0", f"{at}.amount")
            if entry.amount != rounded(entry.amount, currency):
                raise Invalid(f"must be in whole minor units of {currency}", f"{at}.amount")
        if isinstance(entry, Invoiced):
            if entry.id in numbers:
                raise Invalid(f"is {entry.id}, as is that of an invoice above it", f"{at}.id")
            if entry.due < entry.on:
                raise Invalid("must not lie before the day of issue", f"{at}.due")
            numbers.add(entry.id)
        elif not isinstance(entry, Refunded) and entry.for_ is not None and entry.for_ not in numbers:
            raise Invalid(f"names {entry.for_}, and no invoice above it is that", f"{at}.for")
        yield entry


def _within_invoice(note: Credited, invoice: _Invoice) -> None:
    invoice.credit_notes += note.amount
    if invoice.credit_notes > invoice.entry.amount:
        beyond = invoice.credit_notes - invoice.entry.amount
        raise Invalid(f"is {beyond} more than is left of {invoice.entry.id} to be credited", "amount")


def _standing(invoice: _Invoice, as_of: date, currency: str) -> Standing:
    entry = invoice.entry
    if invoice.open:
        state: State = "overdue" if as_of > entry.due else "issued"
    elif invoice.written_off:
        state = "written off"
    else:
        state = "credited" if invoice.by_credit_notes == entry.amount else "paid"
    return Standing(
        id=entry.id,
        due=entry.due,
        amount=entry.amount,
        open=rounded(invoice.open, currency),
        state=state,
        course=tuple(invoice.course),
    )
