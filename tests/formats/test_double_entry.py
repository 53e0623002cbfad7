"""Journals as text are read by a program of plain-text accounting, and come to the same there."""

from __future__ import annotations

import csv
import io
from datetime import date
from decimal import Decimal

from beancount import loader
from beancount.core.data import Transaction
from hypothesis import given, settings
from hypothesis import strategies as st

from calm_tariff.core.billing.books.journal import JournalEntry, NamedPosting
from calm_tariff.formats import double_entry

SEPTEMBER = date(2026, 9, 1)


def entry(consumer: str, *amounts: tuple[str, str], reference: str = "INV-2026-00001") -> JournalEntry:
    return JournalEntry(
        id=7,
        on=date(2026, 9, 2),
        kind="invoice",
        consumer_id=1,
        consumer=consumer,
        reference=reference,
        document_id=3,
        value_on=date(2026, 8, 31),
        postings=tuple(NamedPosting(account=account, amount=Decimal(amount)) for account, amount in amounts),
    )


def read_back(entries: list[JournalEntry]) -> list[Transaction]:
    names = sorted({p.account for e in entries for p in e.postings})
    head = "".join(double_entry.accounts([(name, SEPTEMBER) for name in names], "EUR"))
    found, errors, options = loader.load_string(head + "".join(double_entry.as_text(entries, "EUR")))
    assert not errors
    assert options["operating_currency"] == ["EUR"]
    return [each for each in found if isinstance(each, Transaction)]


def test_an_entry_is_read_as_it_was_written() -> None:
    (read,) = read_back([entry("Gulls", ("Assets:Receivable", "12.3000"), ("Income:4010", "-12.3"))])
    assert (read.date, read.payee, read.narration) == (date(2026, 9, 2), "Gulls", "invoice INV-2026-00001")
    assert {p.account: p.units.number for p in read.postings} == {
        "Assets:Receivable": Decimal("12.30"),
        "Income:4010": Decimal("-12.30"),
    }
    assert (read.meta["entry"], read.meta["reference"]) == ("7", "INV-2026-00001")
    assert read.meta["value-on"] == date(2026, 8, 31)


@given(st.text(st.characters(exclude_categories=("Cc", "Cs")), max_size=60))
@settings(max_examples=60, deadline=None)
def test_no_name_breaks_out_of_its_place(name: str) -> None:
    made = entry(name, ("Assets:Bank", "1.00"), ("Assets:Receivable", "-1.00"))
    (read,) = read_back([made])
    assert read.payee == " ".join(name.split())
    assert len(read.postings) == 2


def test_the_csv_has_a_line_for_each_posting() -> None:
    made = entry("=cmd()", ("Assets:Bank", "1000.00"), ("Assets:Receivable", "-1000"))
    head, *rows = csv.reader(io.StringIO("".join(double_entry.as_csv([made], "EUR"))))
    assert tuple(head) == double_entry.HEAD
    told = ["2026-09-02", "7", "invoice", "INV-2026-00001", "'=cmd()", "2026-08-31"]
    assert rows == [
        [*told, "Assets:Bank", "1000.00", "", "EUR"],
        [*told, "Assets:Receivable", "", "1000.00", "EUR"],
    ]
