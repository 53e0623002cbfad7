"""A document of money as it was issued: all that stands on it, frozen, whatever form it is written in
(docs/arithmetic.md, section 5; the business terms of EN 16931-1 are named by their numbers)."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Literal

from calm_tariff.core.billing.documents.tax import Treatment
from calm_tariff.core.money import minor_digits

Kind = Literal["invoice", "credit note"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Seller:
    """Who issued it (BG-4): its name and postal address, its country (ISO 3166-1) and tax number, and the account that
    transfers go to (BG-17)."""

    name: str
    address: str = ""
    country: str = ""
    tax_number: str = ""
    iban: str = ""
    bic: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Buyer:
    """Who is charged (BG-7)."""

    name: str
    address: str = ""
    country: str = ""
    tax_number: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class IssuedLine:
    """One line (BG-25): what it is for and of which subscription, the rule in words, how much of what, the days it
    belongs to, both among them, and how it is taxed. `note` says what it corrects."""

    label: str
    subscription: str
    rule: str
    quantity: Decimal | None
    days: int
    first: date
    last: date
    amount: Decimal
    treatment: Treatment
    percent: Decimal
    note: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class IssuedGroup:
    """The tax on the lines of one treatment and percent (BG-23), and what has to be said where there is none."""

    treatment: Treatment
    percent: Decimal
    base: Decimal
    tax: Decimal
    note: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Issued:
    """An invoice or a credit note. `used` is credit on account that paid of an invoice when it was issued; `paid_by` is
    how the rest is paid. A credit note names the invoice that it corrects, with the day that was issued on, and why."""

    kind: Kind
    number: str
    issued_on: date
    due_on: date | None
    first: date
    last: date
    currency: str
    seller: Seller
    buyer: Buyer
    order_number: str
    lines: tuple[IssuedLine, ...]
    groups: tuple[IssuedGroup, ...]
    subtotal: Decimal
    tax: Decimal
    total: Decimal
    used: Decimal = Decimal(0)
    paid_by: Literal["transfer", "card", ""] = ""
    reference: str = ""
    corrects: str = ""
    corrects_of: date | None = None
    reason: str = ""

    @property
    def to_pay(self) -> Decimal:
        """What is left to be paid when it is issued (BT-115)."""
        return self.total - self.used


def missing(of: Issued) -> list[str]:
    """What an electronic invoice by EN 16931 has to say and this one does not, each in a few words."""
    found = []
    if not of.seller.country:
        found.append("the provider's country")
    if not of.buyer.country:
        found.append("the consumer's country")
    treatments = {line.treatment for line in of.lines}
    taxed = treatments & {"standard", "exempt", "reverse charge"}
    if taxed and not of.seller.tax_number:
        found.append("the provider's tax number")
    if "reverse charge" in treatments and not of.buyer.tax_number:
        found.append("the consumer's tax number")
    if minor_digits(of.currency) > 2:
        found.append(f"amounts of at most two decimals, and {of.currency} has {minor_digits(of.currency)}")
    return found
