"""Bank statements as ISO 20022 has them: CAMT.053, of any version from 2 on. Read without entities or document types,
so that no file can reach outside itself or blow up."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import date
from decimal import Decimal, InvalidOperation
from xml.etree.ElementTree import Element, ParseError

from defusedxml import ElementTree
from defusedxml.common import DefusedXmlException

from calm_tariff.core.billing.bank.statements import BankLine, Statement, Unread
from calm_tariff.core.errors import Invalid

MOST_ENTRIES = 20_000
_LONGEST = {"reference": 140, "name": 140, "text": 500, "iban": 34, "creditor_reference": 35}


def read(text: str, field: str = "text") -> Statement:
    """The entries of a CAMT.053 file that are booked; those that cannot be used are told with their place. Raises
    `Invalid` for what is no such file, or speaks of several accounts."""
    try:
        root = ElementTree.fromstring(text.removeprefix("\ufeff").lstrip().encode(), forbid_dtd=True)
    except ParseError as error:
        line, column = error.position
        raise Invalid(f"is no XML: line {line}, column {column + 1}", field) from None
    except (DefusedXmlException, ValueError):
        raise Invalid("holds a document type or entities, which no statement needs", field) from None
    statements = [each for each in root.iter() if _name(each) == "Stmt"]
    if not statements:
        raise Invalid("holds no statement (CAMT.053: BkToCstmrStmt/Stmt)", field)
    accounts = {_text(each, "Acct/Id/IBAN") for each in statements}
    if len(accounts) > 1:
        raise Invalid(f"speaks of several accounts: {', '.join(sorted(accounts))}", field)
    lines: list[BankLine] = []
    unread: list[Unread] = []
    for number, statement in enumerate(statements, 1):
        for place, entry in enumerate(_all(statement, "Ntry"), 1):
            where = f"entry {place}" if len(statements) == 1 else f"statement {number}, entry {place}"
            try:
                lines.extend(_entry(entry))
            except Invalid as error:
                unread.append(Unread(where=where, what=str(error)))
    if len(lines) > MOST_ENTRIES:
        raise Invalid(f"holds more than {MOST_ENTRIES:,} entries; bring it in in parts", field)
    return Statement(iban=accounts.pop(), lines=tuple(lines), unread=tuple(unread))


def _entry(entry: Element) -> Iterator[BankLine]:
    """The transfers of a booked entry: several where it gathers them, and they come to its amount."""
    state = _text(entry, "Sts/Cd") or _text(entry, "Sts")
    if state and state != "BOOK":
        return
    amount, currency = _amount(entry, "Amt")
    sign = _sign(entry)
    booked = _day(entry, "BookgDt")
    value = _day(entry, "ValDt") or booked
    if booked is None or value is None:
        raise Invalid("has no day of booking", "BookgDt")
    own = _text(entry, "AcctSvcrRef") or _text(entry, "NtryRef")
    parts = _all(entry, "NtryDtls/TxDtls")
    amounts = [_part_amount(part, currency) for part in parts]
    whole = len(parts) < 2 or None in amounts or sum(filter(None, amounts), Decimal(0)) != amount
    if whole:
        parts, amounts = parts[:1] or [entry], [amount]
    for place, (part, much) in enumerate(zip(parts, amounts, strict=True), 1):
        reference = own if whole else _text(part, "Refs/AcctSvcrRef") or (own and f"{own}/{place}")
        if not reference:
            reference = _text(part, "Refs/AcctSvcrRef")
        if not reference:
            raise Invalid("has no reference of the bank's own", "AcctSvcrRef")
        yield BankLine(
            reference=_cut("reference", reference),
            booked_on=booked,
            value_on=value,
            amount=sign * (much or Decimal(0)),
            currency=currency,
            **_details(part, incoming=sign > 0),
        )


def _details(part: Element, incoming: bool) -> dict[str, str]:
    """Whom a transfer is from or went to, and what was written with it."""
    other = "Dbtr" if incoming else "Cdtr"
    written = [_own(each) for each in _all(part, "RmtInf/Ustrd")]
    return {
        "name": _cut("name", _text(part, f"RltdPties/{other}/Nm") or _text(part, f"RltdPties/{other}/Pty/Nm")),
        "iban": _cut("iban", _text(part, f"RltdPties/{other}Acct/Id/IBAN")),
        "text": _cut("text", " ".join(filter(None, written)) or _text(part, "AddtlNtryInf")),
        "creditor_reference": _cut("creditor_reference", _text(part, "RmtInf/Strd/CdtrRefInf/Ref")),
    }


def _sign(entry: Element) -> int:
    way = _text(entry, "CdtDbtInd")
    if way not in ("CRDT", "DBIT"):
        raise Invalid(f"is {way!r}; must be CRDT or DBIT", "CdtDbtInd")
    return 1 if way == "CRDT" else -1


def _amount(of: Element, path: str) -> tuple[Decimal, str]:
    found = next(iter(_all(of, path)), None)
    if found is None:
        raise Invalid("is not there", path)
    try:
        amount = Decimal(_own(found))
    except InvalidOperation:
        raise Invalid(f"is {_own(found)!r}, which is no amount", path) from None
    if not amount.is_finite() or not 0 < amount < 10**15:
        raise Invalid(f"is {_own(found)}; must be above 0", path)
    return amount, found.get("Ccy", "")


def _part_amount(part: Element, currency: str) -> Decimal | None:
    for path in ("AmtDtls/TxAmt/Amt", "Amt"):
        if _all(part, path):
            amount, own = _amount(part, path)
            return amount if own == currency else None
    return None


def _day(of: Element, path: str) -> date | None:
    text = _text(of, f"{path}/Dt") or _text(of, f"{path}/DtTm")[:10]
    if not text:
        return None
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise Invalid(f"is {text!r}, which is no day", path) from None


def _name(of: Element) -> str:
    return re.sub(r"^\{.*\}", "", str(of.tag))


def _own(of: Element) -> str:
    return " ".join((of.text or "").split())


def _all(of: Element, path: str) -> list[Element]:
    """The elements under a path of local names, whatever the version of the schema."""
    found = [of]
    for name in path.split("/"):
        found = [child for each in found for child in each if _name(child) == name]
    return found


def _text(of: Element, path: str) -> str:
    return next((_own(each) for each in _all(of, path) if _own(each)), "")


def _cut(name: str, text: str) -> str:
    return text[: _LONGEST[name]]
