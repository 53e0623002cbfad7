"""Rows of a CSV file (RFC 4180) with a head, as people's programs write them: with commas or semicolons between cells,
with or without a mark of its byte order."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass

from calm_tariff.core.errors import Invalid


@dataclass(frozen=True, slots=True)
class CsvRow:
    """A row by the number of the line it begins at, its cells by the head's names, and what is wrong with its shape."""

    line: int
    cells: dict[str, str]
    wrong: str = ""


def read(text: str, most: int, field: str = "text") -> tuple[list[str], list[CsvRow]]:
    """A file's head, in small letters, and its rows, without those that are empty. Raises `Invalid` for a file without
    rows, of too many, or that is no CSV."""
    text = text.removeprefix("\ufeff")
    if "\0" in text:
        raise Invalid("is no text", field)
    first = text.split("\n", 1)[0]
    between = ";" if first.count(";") > first.count(",") else ","
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=between, strict=True)
    head: list[str] = []
    rows: list[CsvRow] = []
    line = 1
    try:
        for cells in reader:
            begins, line = line, reader.line_num + 1
            if not any(cell.strip() for cell in cells):
                continue
            if not head:
                head = [cell.strip().lower().replace(" ", "_") for cell in cells]
                continue
            if len(rows) == most:
                raise Invalid(f"has more than {most:,} rows; bring it in in parts", field)
            rows.append(_row(begins, head, cells))
    except csv.Error as error:
        raise Invalid(f"is no CSV: line {reader.line_num}: {error}", field) from None
    if not rows:
        raise Invalid("has no rows below its head" if head else "is empty", field)
    return head, rows


def _row(line: int, head: Sequence[str], cells: Sequence[str]) -> CsvRow:
    found = {name: cell.strip() for name, cell in zip(head, cells, strict=False)}
    wrong = "" if len(cells) == len(head) else f"has {len(cells)} cells, and the head has {len(head)}"
    return CsvRow(line, found, wrong)
