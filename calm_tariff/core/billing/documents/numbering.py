"""Numbers of documents: one series for each kind and calendar year, from 1 upward (docs/arithmetic.md, section 5)."""

from __future__ import annotations

from typing import Literal

Kind = Literal["invoice", "credit note"]
PREFIXES: dict[Kind, str] = {"invoice": "INV", "credit note": "CN"}


def document_number(kind: Kind, year: int, place: int, prefix: str = "") -> str:
    """The number of the document at a place in its series, with another beginning where one is given:
    `INV-2026-00017`."""
    return f"{prefix or PREFIXES[kind]}-{year}-{place:05d}"
