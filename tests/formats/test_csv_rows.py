from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.errors import Invalid
from calm_tariff.formats.csv_rows import CsvRow, read


@pytest.mark.parametrize("between", [",", ";"])
@pytest.mark.parametrize("ends", ["\n", "\r\n"])
def test_cells_by_their_heads_and_lines_as_an_editor_counts_them(between: str, ends: str) -> None:
    lines = ["\ufeffOrganisation,Tax number", "Quay, 1 ", "", '"Weir, ""Ltd""\nand so on",2', "Lock,3"]
    text = ends.join(
        line.replace(",", between) if n != 3 else line.replace('",2', f'"{between}2') for n, line in enumerate(lines)
    )
    head, rows = read(text, 10)
    assert head == ["organisation", "tax_number"]
    assert [(r.line, r.cells["tax_number"], r.wrong) for r in rows] == [(2, "1", ""), (4, "2", ""), (6, "3", "")]
    assert rows[1].cells["organisation"] == 'Weir, "Ltd"\nand so on'


def test_a_row_of_another_length_is_told() -> None:
    _, rows = read("a,b\n1\n1,2,3\n", 10)
    assert rows == [
        CsvRow(2, {"a": "1"}, "has 1 cells, and the head has 2"),
        CsvRow(3, {"a": "1", "b": "2"}, "has 3 cells, and the head has 2"),
    ]


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("", "is empty"),
        ("\n \n", "is empty"),
        ("a,b\n\n", "has no rows below its head"),
        ("a\n1\n2\n3\n", "has more than 2 rows"),
        ('a,b\n"1,2\n', "is no CSV: line 2"),
        ('a,b\n"1"x,2\n', "is no CSV: line 2"),
        ("a\0b\n1", "is no text"),
    ],
)
def test_what_is_no_such_file_is_refused(text: str, why: str) -> None:
    with pytest.raises(Invalid, match=why):
        read(text, 2)


@given(st.text())
def test_any_text_is_read_or_refused(text: str) -> None:
    try:
        head, rows = read(text, 5)
    except Invalid:
        return
    assert head and rows
