"""CSV (RFC 4180) that spreadsheets read as what it is: text."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable
from datetime import datetime
from typing import Any

_CUTS = re.compile(r"[;\t\r\n]")


def lines(rows: Iterable[Iterable[Any]]) -> str:
    """Rows as lines of cells."""
    out = io.StringIO()
    csv.writer(out).writerows([cell(value) for value in row] for row in rows)
    return out.getvalue()


def cell(value: Any) -> str:
    """A value as it stands in a cell: nothing as "", a moment by ISO 8601, several with semicolons between."""
    if value is None:
        return ""
    if isinstance(value, datetime):
        return value.isoformat()
    text = "; ".join(map(str, value)) if isinstance(value, (list, tuple)) else str(value)
    # A consumer names itself: no name may begin a formula in the reader's spreadsheet, which may also cut cells at
    # semicolons and tabs.
    parts = [part.lstrip() for part in _CUTS.split(text)]
    risky = any(part[:1] in ("=", "+", "-", "@") for part in parts) or text[:1] in ("\t", "\r")
    return f"'{text}" if risky and not _is_number(text) else text


def _is_number(text: str) -> bool:
    return text.lstrip("-").replace(".", "", 1).isdigit()
