"""Statements as CSV, by the columns that somebody named."""

from __future__ import annotations

from dataclasses import replace
from datetime import date
from decimal import Decimal

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.formats.bank_csv import Columns, checked, read

COLUMNS = Columns(
    booked_on="Buchungstag",
    value_on="Valuta",
    amount="Betrag in EUR",
    name="Auftraggeber",
    text="Verwendungszweck",
    days="31.12.2026",
    point=",",
)
HEAD = "Buchungstag;Valuta;Auftraggeber;Verwendungszweck;Betrag in EUR\n"


def rows(*lines: str) -> str:
    return HEAD + "\n".join(lines) + "\n"


def test_rows_are_read_as_the_bank_writes_them() -> None:
    found = read(
        rows("05.10.2026;06.10.2026;Ferries;INV-2026-00001;1.234,50", "05.10.2026;;Bank;Fees;-5"), COLUMNS, "EUR"
    )
    assert [(x.booked_on, x.value_on, x.amount, x.name, x.text, x.currency) for x in found.lines] == [
        (date(2026, 10, 5), date(2026, 10, 6), Decimal("1234.50"), "Ferries", "INV-2026-00001", "EUR"),
        (date(2026, 10, 5), date(2026, 10, 5), Decimal("-5"), "Bank", "Fees", "EUR"),
    ]


def test_a_row_without_a_reference_is_known_by_what_it_says_however_often_it_is_brought_in() -> None:
    one, other = "05.10.2026;;Ferries;Fee;5,00", "05.10.2026;;Ferries;Fee;6,00"
    first = [x.reference for x in read(rows(one, one, other), COLUMNS, "EUR").lines]
    assert len(set(first)) == 3
    again = [x.reference for x in read(rows(other, one, one, one), COLUMNS, "EUR").lines]
    assert set(first) < set(again) and len(set(again)) == 4
    named = read("day;amount;ref\n2026-10-05;5;A1\n", Columns(booked_on="day", amount="amount", reference="ref"), "EUR")
    assert [x.reference for x in named.lines] == ["A1"]


def test_rows_that_cannot_be_used_are_told_by_their_line() -> None:
    found = read(
        rows("05.10.2026;;F;t;5,00", "2026-10-05;;F;t;5,00", "05.10.2026;;F;t;five", "05.10.2026;;F;t;0", "05.10.2026"),
        COLUMNS,
        "EUR",
    )
    assert len(found.lines) == 1
    assert [(x.where, x.what) for x in found.unread] == [
        ("line 3", "buchungstag: '2026-10-05' is no day such as 31.12.2026"),
        ("line 4", "betrag_in_eur: 'five' is no amount"),
        ("line 5", "betrag_in_eur: '0' must be an amount other than 0"),
        ("line 6", "has 1 cells, and the head has 5"),
    ]


@pytest.mark.parametrize(
    ("change", "where"),
    [
        ({"amount": ""}, "columns.amount"),
        ({"booked_on": " "}, "columns.booked_on"),
        ({"text": "x" * 101}, "columns.text"),
        ({"days": "soon"}, "columns.days"),
        ({"point": ";"}, "columns.point"),
    ],
)
def test_columns_that_mean_nothing_are_refused(change: dict[str, str], where: str) -> None:
    with pytest.raises(Invalid) as refused:
        checked(replace(COLUMNS, **change))
    assert refused.value.where == where


def test_a_file_without_a_column_that_was_named_is_refused() -> None:
    with pytest.raises(Invalid, match="has no column 'verwendungszweck'; it has buchungstag, betrag_in_eur") as refused:
        read("Buchungstag;Betrag in EUR\n05.10.2026;5\n", replace(COLUMNS, value_on="", name=""), "EUR")
    assert refused.value.where == "columns.text"
