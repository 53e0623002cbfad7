"""Numbers of documents: one series for each kind and calendar year, from 1 upward (docs/arithmetic.md, section 5)."""

from __future__ import annotations

from typing import Literal

Kind = Literal["invoice", "credit note"]
_PREFIXES: dict[Kind, str] = {"invoice": "INV", "credit note": "CN"}


def document_number(kind: Kind, year: int, place: int) -> str:
    """The number of the document at a place in its series: `INV-2026-00017`."""
    return f"{_PREFIXES[kind]}-{year}-{place:05d}"
