"""What a bank says of an account: entries, each by the bank's own reference."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from decimal import Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class BankLine:
    """An entry of a statement: above 0 money that came in, below 0 money that went out, on the day it was booked and
    that from which it counts (`value_on`); from or to whom, what was written with it, and the creditor reference
    (ISO 11649) where the sender gave one apart. The bank's own `reference` is one entry's alone."""

    reference: str
    booked_on: date
    value_on: date
    amount: Decimal
    currency: str
    name: str = ""
    iban: str = ""
    text: str = ""
    creditor_reference: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Unread:
    """An entry that cannot be used: where it stands, and why."""

    where: str
    what: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Statement:
    """What a file holds. `iban` is of the account that it is a statement of; "" where it does not say."""

    iban: str
    lines: tuple[BankLine, ...]
    unread: tuple[Unread, ...] = ()
