"""A journal as plain-text double entry, which programs of plain-text accounting read, and as CSV."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import date

from calm_tariff.core.billing.books.journal import JournalEntry, NamedPosting
from calm_tariff.core.money import in_digits
from calm_tariff.formats import csv_cells

HEAD = (
    "day",
    "entry",
    "kind",
    "reference",
    "consumer",
    "value_on",
    "account",
    "debit",
    "credit",
    "currency",
)


def as_text(entries: Iterable[JournalEntry], currency: str) -> Iterator[str]:
    """A journal entry by entry. Whoever reads it knows the accounts already (`accounts`)."""
    for entry in entries:
        yield f'{entry.on} * "{_quoted(entry.consumer)}" "{_quoted(_words(entry))}"\n'
        yield f'  entry: "{entry.id}"\n'
        if entry.reference:
            yield f'  reference: "{_quoted(entry.reference)}"\n'
        if entry.value_on is not None:
            yield f"  value-on: {entry.value_on}\n"
        for posting in entry.postings:
            yield f"  {posting.account}  {in_digits(posting.amount, currency)} {currency}\n"
        yield "\n"


def accounts(opened: Iterable[tuple[str, date]], currency: str) -> Iterator[str]:
    """The accounts that journals post to, each with the first day of the month in which it was first used."""
    yield f'option "operating_currency" "{currency}"\n\n'
    for account, since in opened:
        yield f"{since} open {account} {currency}\n"


def as_csv(entries: Iterable[JournalEntry], currency: str) -> Iterator[str]:
    """A journal posting by posting, below `HEAD`."""
    yield csv_cells.lines([HEAD])
    for entry in entries:
        told = [entry.on, entry.id, entry.kind, entry.reference, entry.consumer, entry.value_on]
        yield csv_cells.lines([*told, *_sides(posting, currency), currency] for posting in entry.postings)


def _sides(of: NamedPosting, currency: str) -> tuple[str, str, str]:
    amount = in_digits(abs(of.amount), currency)
    return (of.account, amount, "") if of.amount > 0 else (of.account, "", amount)


def _words(entry: JournalEntry) -> str:
    return f"{entry.kind} {entry.reference}".strip()


def _quoted(text: str) -> str:
    return " ".join(text.replace("\\", "\\\\").replace('"', '\\"').split())
