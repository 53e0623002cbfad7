"""Which invoice a transfer pays: by its reference and its amount, else a person says (docs/arithmetic.md,
section 5)."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from decimal import Decimal
from typing import Literal

from calm_tariff.core.billing.bank.references import creditor_reference
from calm_tariff.core.billing.bank.statements import BankLine

# Why an invoice may be meant: it is named, the amount is what is open of it, it is of whoever sent the money.
Why = Literal["reference", "amount", "name"]
MOST_SUGGESTED = 5
# Words that say of which kind a company is say nothing of who it is.
_OF_A_KIND = {"LDA", "SA", "LTD", "LIMITED", "GMBH", "AG", "SARL", "SL", "BV", "INC", "LLC", "PLC"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Payable:
    """An invoice of which so much is open, and whose it is."""

    number: str
    consumer: str
    open: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class Suggested:
    """An invoice that a transfer may be for, and all that speaks for it."""

    number: str
    why: tuple[Why, ...]


def named(line: BankLine, payable: Payable) -> bool:
    """Whether a transfer names an invoice: by the creditor reference, or by its number, however either is spaced."""
    told = _compact(f"{line.creditor_reference} / {line.text}")
    return _holds(told, creditor_reference(payable.number)) or _holds(told, _compact(payable.number))


def sure(line: BankLine, payables: Iterable[Payable]) -> Payable | None:
    """The invoice that a transfer pays beyond doubt: the only one that it names, and its amount is what is open of
    it."""
    found = [each for each in payables if named(line, each)]
    return found[0] if len(found) == 1 and found[0].open == line.amount else None


def suggested(line: BankLine, payables: Iterable[Payable]) -> list[Suggested]:
    """The invoices that a transfer may be for, the likeliest first."""
    found = []
    sender = _words(line.name)
    for each in payables:
        why: list[Why] = []
        if named(line, each):
            why.append("reference")
        if each.open == line.amount:
            why.append("amount")
        if sender and sender & _words(each.consumer):
            why.append("name")
        if why:
            found.append((-_weight(why), each.number, Suggested(number=each.number, why=tuple(why))))
    return [each for *_, each in sorted(found, key=lambda of: of[:2])[:MOST_SUGGESTED]]


def _weight(why: Iterable[Why]) -> int:
    return sum({"reference": 4, "amount": 2, "name": 1}[each] for each in why)


def _holds(text: str, part: str) -> bool:
    """Whether a text holds a part that no further digit follows: INV-2026-00017 is not in INV-2026-000171."""
    return part in text and re.search(rf"{re.escape(part)}(?!\d)", text) is not None


def _compact(text: str) -> str:
    return re.sub(r"[^0-9A-Z/]", "", text.upper())


def _words(name: str) -> set[str]:
    return set(re.findall(r"\w{3,}", name.upper())) - _OF_A_KIND
