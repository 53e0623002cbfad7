"""The reference by which a transfer is known: ISO 11649, made from the number of the invoice."""

from __future__ import annotations

import re

from calm_tariff.core.errors import Invalid

# What may follow the two check digits.
LONGEST = 21


def creditor_reference(number: str) -> str:
    """`RF`, two check digits (ISO 7064, MOD 97-10) and the letters and digits of a document's number:
    INV-2026-00017 is RF32INV202600017. Raises `Invalid` for a number too long for it, or of nothing."""
    text = re.sub(r"[^0-9A-Z]", "", number.upper())
    if not 1 <= len(text) <= LONGEST:
        raise Invalid(f"must have 1 to {LONGEST} letters and digits to make a reference of", "number")
    return f"RF{98 - _remainder(text + 'RF00'):02d}{text}"


def valid(reference: str) -> bool:
    """Whether the check digits of a reference hold, as written by anybody: with blanks, in small letters."""
    text = re.sub(r"\s", "", reference).upper()
    if not re.fullmatch(rf"RF\d\d[0-9A-Z]{{1,{LONGEST}}}", text, re.ASCII):
        return False
    return _remainder(text[4:] + text[:4]) == 1


def _remainder(text: str) -> int:
    return int("".join(str(int(letter, 36)) for letter in text)) % 97
