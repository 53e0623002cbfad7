"""Electronic invoices by EN 16931-1: as UBL 2.1 (OASIS), and as UN/CEFACT's Cross Industry Invoice for Factur-X 1.0
(ZUGFeRD 2), the profile EN 16931. The library writes both from the same business terms."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from decimal import Decimal
from typing import Any

from calm_tariff.core.billing.documents.issued import Buyer, Issued, IssuedGroup, IssuedLine, Seller, missing
from calm_tariff.core.errors import Conflict
from calm_tariff.core.money import rounded

# UNTDID 1001, 4461 and 5305; VATEX for what is charged to the recipient.
_TYPES = {"invoice": "380", "credit note": "381"}
_TRANSFER, _SEPA_TRANSFER, _CARD, _UNSAID = "30", "58", "48", "1"
_CATEGORIES = {"standard": "S", "exempt": "E", "reverse charge": "AE"}
_REVERSE = "VATEX-EU-AE"
# One of whatever it is (UN/ECE Recommendation 20).
_ONE = "C62"
_LONGEST_NAME, _ADDRESS_LINES = 100, 3


def ubl(of: Issued) -> bytes:
    """A document as UBL 2.1, to EN 16931. Raises `Conflict`, naming what is missing."""
    # Only whoever writes documents pays for the library.
    from facturx import generate_ubl_xml

    return bytes(generate_ubl_xml(_terms(of), level="en16931", check_xsd=False, check_schematron=False))


def cii(of: Issued) -> bytes:
    """A document as a Cross Industry Invoice, to be embedded in its PDF. Raises `Conflict` likewise."""
    from facturx import generate_cii_xml

    return bytes(generate_cii_xml(_terms(of), level="en16931", check_xsd=False, check_schematron=False))


def _terms(of: Issued) -> dict[str, Any]:
    """The business terms of a document, by their numbers."""
    left_out = missing(of)
    if left_out:
        raise Conflict(f"an electronic invoice has to say {', and '.join(left_out)}", of.number)
    terms: dict[str, Any] = {
        "BT-1": of.number,
        "BT-2": of.issued_on,
        "BT-3": _TYPES[of.kind],
        "BT-5": of.currency,
        "BT-72": of.last,
        "BT-73": of.first,
        "BT-74": of.last,
        "BT-106": _money(of.subtotal, of),
        "BT-109": _money(of.subtotal, of),
        "BT-110": _money(of.tax, of),
        "BT-112": _money(of.total, of),
        "BT-115": _money(of.to_pay, of),
        "BG-4": _seller(of.seller),
        "BG-7": _party(of.buyer),
        "BG-23": [_group(group, of) for group in of.groups],
        "BG-25": [_line(place, line, of) for place, line in enumerate(of.lines, start=1)],
    }
    if of.due_on is not None:
        terms["BT-9"] = of.due_on
    if of.order_number:
        terms["BT-13"] = of.order_number
    if of.used:
        terms["BT-113"] = _money(of.used, of)
    notes = [note for note in (of.reason, *(group.note for group in of.groups)) if note]
    if notes:
        terms["BG-1"] = [{"BT-22": note} for note in dict.fromkeys(notes)]
    if of.corrects:
        preceding: dict[str, str | date] = {"BT-25": of.corrects}
        if of.corrects_of is not None:
            preceding["BT-26"] = of.corrects_of
        terms["BG-3"] = [preceding]
    return {**terms, **(_payment(of) if of.kind == "invoice" else {})}


def _payment(of: Issued) -> dict[str, str]:
    """How it is paid (BG-16)."""
    if of.paid_by == "card":
        return {"BT-81": _CARD}
    if not of.seller.iban:
        return {"BT-81": _UNSAID, "BT-83": of.reference}
    said = {
        "BT-81": _SEPA_TRANSFER if of.currency == "EUR" else _TRANSFER,
        "BT-83": of.reference,
        "BT-84": of.seller.iban,
        "BT-85": of.seller.name,
    }
    return {**said, **({"BT-86": of.seller.bic} if of.seller.bic else {})}


def _party(of: Seller | Buyer) -> dict[str, str]:
    lines = [line.strip() for line in of.address.splitlines() if line.strip()]
    if len(lines) > _ADDRESS_LINES:
        lines = [*lines[: _ADDRESS_LINES - 1], ", ".join(lines[_ADDRESS_LINES - 1 :])]
    said = {"name": of.name, "country_code": of.country}
    said |= {f"addr_l{place}": line for place, line in enumerate(lines, start=1)}
    if of.tax_number:
        said["vat_identifier"] = of.tax_number
    return said


def _seller(of: Seller) -> dict[str, str]:
    """A seller whose number does not begin with a country is registered for tax there (BT-32)."""
    said = _party(of)
    if of.tax_number and not of.tax_number[:2].isalpha():
        said["tax_identifier"] = said.pop("vat_identifier")
    return said


def _group(group: IssuedGroup, of: Issued) -> dict[str, str]:
    said = {
        "BT-116": _money(group.base, of),
        "BT-117": _money(group.tax, of),
        "BT-118": _category(group.treatment, group.percent),
        "BT-119": _percent(group.percent),
    }
    if group.treatment != "standard":
        said["BT-120"] = group.note
    if group.treatment == "reverse charge":
        said["BT-121"] = _REVERSE
    return said


def _line(place: int, line: IssuedLine, of: Issued) -> Mapping[str, Any]:
    """A line is one of what it is for, at its amount: how much was used, and by which rule, is told in words, because
    steps of a price are no price for one."""
    name = f"{line.label}, {line.subscription}" if line.subscription else line.label
    told = [f"{line.quantity.normalize():f} used" if line.quantity is not None else "", line.rule, line.note]
    said: dict[str, Any] = {
        "BT-126": str(place),
        "BT-129": "1" if line.amount >= 0 else "-1",
        "BT-130": _ONE,
        "BT-131": _money(line.amount, of),
        "BT-134": line.first,
        "BT-135": line.last,
        "BT-146": _money(abs(line.amount), of),
        "BT-151": _category(line.treatment, line.percent),
        "BT-152": _percent(line.percent),
        "BT-153": name[:_LONGEST_NAME],
    }
    words = ". ".join(each.rstrip(".") for each in told if each)
    return {**said, **({"BT-154": words} if words else {})}


def _category(treatment: str, percent: Decimal) -> str:
    return "Z" if treatment == "standard" and not percent else _CATEGORIES[treatment]


def _percent(percent: Decimal) -> str:
    return f"{percent.normalize():f}"


def _money(amount: Decimal, of: Issued) -> str:
    return f"{rounded(amount, of.currency):f}"
