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
from calm_tariff.core.money import plain, rounded, total
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


@dataclass(frozen=True, slots=True, kw_only=True)
class Returned:
    """A payment was taken back by whoever made it, or was booked by mistake (+). It is named by its place in the list;
    what it closed is open again."""

    on: date
    of: int
    kind: Literal["returned payment"] = "returned payment"


Entry = Invoiced | Credited | Paid | Refunded | WrittenOff | Returned
# The kinds of entries that add to what is owed (+); the others take from it (−).
ADDS = frozenset({"invoice", "refund", "returned payment"})


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
    note or a write-off. Below 0: so much of it came back from there, because the payment was returned."""

    entry: int
    invoice: str | None
    amount: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class Closed:
    """So much of an invoice was closed by credit notes that name it, and by write-offs."""

    by_credit_notes: Decimal = ZERO
    by_write_offs: Decimal = ZERO


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
    entry: Invoiced | Credited | Paid | Refunded | WrittenOff,
    place: int,
    open_invoices: Iterable[Open],
    credits: Iterable[Credit],
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
            raise Invalid(f"is {plain(left)} more than the credit on account", "amount")
        return tuple(Allocation(entry=each.entry, invoice=None, amount=part) for each, part in given)
    waiting = in_turn(open_invoices)
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


def returned(place: int, went: Iterable[Allocation]) -> tuple[Allocation, ...]:
    """What a payment comes back from once it is returned, given where it `went`.

    Raises `Invalid`, naming the field, where part of it was paid out again.
    """
    sums: dict[str | None, Decimal] = {}
    for each in went:
        sums[each.invoice] = sums.get(each.invoice, ZERO) + each.amount
    if sums.get(None):
        raise Invalid(f"is a payment of which {plain(sums[None])} were paid out again", "of")
    return tuple(Allocation(entry=place, invoice=invoice, amount=-part) for invoice, part in sums.items() if part)


def used(open_invoices: Iterable[Open], credits: Iterable[Credit]) -> tuple[Allocation, ...]:
    """What credit on account there is goes to what is open: the oldest first, to what is due first."""
    left, found = {each.entry: each.amount for each in credits}, []
    for invoice in in_turn(open_invoices):
        rest = [Credit(entry=entry, amount=amount) for entry, amount in left.items()]
        for each, part in _used(invoice.amount, rest):
            left[each.entry] -= part
            found.append(Allocation(entry=each.entry, invoice=invoice.id, amount=part))
    return tuple(found)


def in_turn(open_invoices: Iterable[Open]) -> list[Open]:
    """Open invoices as they are paid: the earliest due first, of those the lowest number."""
    return sorted(open_invoices, key=lambda each: (each.due, by_number(each.id)))


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
    by_write_offs: Decimal = ZERO

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
    gone_back: set[int] = set()
    kept: list[Allocation] = []
    for place, entry in enumerate(_checked(entries, currency)):
        if entry.on > as_of:
            break
        opened = [Open(id=i, due=x.entry.due, amount=x.open) for i, x in invoices.items() if x.open]
        left = [Credit(entry=each, amount=amount) for each, amount in credits.items() if amount]
        try:
            if isinstance(entry, Credited):
                _within_invoice(entry, invoices[entry.for_])
            if isinstance(entry, Returned):
                found = _gone_back(entry, entries[:place], kept, gone_back)
            else:
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
            invoices[entry.for_].by_write_offs += total(each.amount for each in found)
        kept.extend(found)
        if isinstance(entry, Returned):
            credits[entry.of] = ZERO
            opened = [Open(id=i, due=x.entry.due, amount=x.open) for i, x in invoices.items() if x.open]
            again = used(opened, [Credit(entry=each, amount=amount) for each, amount in credits.items() if amount])
            for each in again:
                credits[each.entry] -= each.amount
                invoices[each.invoice or ""].closed(entry.on, each.amount)
            kept.extend(again)
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
        if not isinstance(entry, WrittenOff | Returned):
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
        elif not isinstance(entry, Refunded | Returned) and entry.for_ is not None and entry.for_ not in numbers:
            raise Invalid(f"names {entry.for_}, and no invoice above it is that", f"{at}.for")
        yield entry


def _gone_back(
    entry: Returned, before: Sequence[Entry], kept: Iterable[Allocation], gone_back: set[int]
) -> tuple[Allocation, ...]:
    """Where a returned payment comes back from."""
    if not 0 <= entry.of < len(before) or not isinstance(before[entry.of], Paid):
        raise Invalid(f"is {entry.of}, and no entry of that place above it is a payment", "of")
    if entry.of in gone_back:
        raise Invalid("is a payment that was returned already", "of")
    gone_back.add(entry.of)
    return returned(entry.of, (each for each in kept if each.entry == entry.of))


def state_of(amount: Decimal, left: Decimal, of: Closed, overdue: bool) -> State:
    """The state of an invoice of which so much is `left` open; `overdue` is whether the day is after the due date."""
    if left:
        return "overdue" if overdue else "issued"
    if of.by_write_offs:
        return "written off"
    return "credited" if amount and of.by_credit_notes == amount else "paid"


def _within_invoice(note: Credited, invoice: _Invoice) -> None:
    invoice.credit_notes += note.amount
    if invoice.credit_notes > invoice.entry.amount:
        beyond = invoice.credit_notes - invoice.entry.amount
        raise Invalid(f"is {plain(beyond)} more than is left of {invoice.entry.id} to be credited", "amount")


def _standing(invoice: _Invoice, as_of: date, currency: str) -> Standing:
    entry = invoice.entry
    closed = Closed(by_credit_notes=invoice.by_credit_notes, by_write_offs=invoice.by_write_offs)
    return Standing(
        id=entry.id,
        due=entry.due,
        amount=entry.amount,
        open=rounded(invoice.open, currency),
        state=state_of(entry.amount, invoice.open, closed, overdue=as_of > entry.due),
        course=tuple(invoice.course),
    )
