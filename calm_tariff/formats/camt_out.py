"""A bank statement written as CAMT.053.001.08 (ISO 20022), as the bank among the stand-ins gives it."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date
from xml.etree.ElementTree import Element, SubElement, tostring

from calm_tariff.core.billing.bank.statements import BankLine

NAMESPACE = "urn:iso:std:iso:20022:tech:xsd:camt.053.001.08"


def statement(iban: str, lines: Iterable[BankLine], day: date) -> str:
    """A statement of one account, made on a day, with its booked entries."""
    document = Element("Document", xmlns=NAMESPACE)
    whole = SubElement(document, "BkToCstmrStmt")
    head = SubElement(whole, "GrpHdr")
    _text(head, "MsgId", f"{day:%Y%m%d}")
    _text(head, "CreDtTm", f"{day}T06:00:00Z")
    body = SubElement(whole, "Stmt")
    _text(body, "Id", f"{day:%Y-%m-%d}")
    _text(body, "Acct/Id/IBAN", iban)
    for line in lines:
        _entry(body, line)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + tostring(document, encoding="unicode")


def _entry(body: Element, line: BankLine) -> None:
    incoming = line.amount > 0
    entry = SubElement(body, "Ntry")
    _text(entry, "Amt", str(abs(line.amount))).set("Ccy", line.currency)
    _text(entry, "CdtDbtInd", "CRDT" if incoming else "DBIT")
    _text(entry, "Sts/Cd", "BOOK")
    _text(entry, "BookgDt/Dt", line.booked_on.isoformat())
    _text(entry, "ValDt/Dt", line.value_on.isoformat())
    _text(entry, "AcctSvcrRef", line.reference)
    details = SubElement(SubElement(entry, "NtryDtls"), "TxDtls")
    other = "Dbtr" if incoming else "Cdtr"
    if line.name or line.iban:
        parties = SubElement(details, "RltdPties")
        if line.name:
            _text(parties, f"{other}/Pty/Nm", line.name)
        if line.iban:
            _text(parties, f"{other}Acct/Id/IBAN", line.iban)
    if line.text or line.creditor_reference:
        written = SubElement(details, "RmtInf")
        if line.text:
            _text(written, "Ustrd", line.text)
        if line.creditor_reference:
            _text(written, "Strd/CdtrRefInf/Ref", line.creditor_reference)


def _text(of: Element, path: str, text: str) -> Element:
    """A new element under a path of local names, with a text."""
    for name in path.split("/"):
        of = SubElement(of, name)
    of.text = text
    return of
