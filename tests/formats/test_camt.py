"""CAMT.053 as banks write it, and what is refused of it."""

from __future__ import annotations

from datetime import date
from decimal import Decimal

import pytest

from calm_tariff.core.billing.bank.statements import BankLine
from calm_tariff.core.errors import Invalid
from calm_tariff.formats.camt import read
from tests.formats.camt_files import IBAN, VERSION_2, VERSION_8, Sent, camt

BOMB = """<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b "bbbbbbbbbb"><!ENTITY c "&b;&b;&b;&b;&b;&b;&b;&b;">]>
<Document><BkToCstmrStmt><Stmt><Id>&c;</Id></Stmt></BkToCstmrStmt></Document>"""
ANOTHER = "<Stmt><Acct><Id><IBAN>X</IBAN></Id></Acct></Stmt>"
OUTSIDE = """<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b SYSTEM "file:///etc/passwd">]>
<Document><BkToCstmrStmt><Stmt><Id>&b;</Id></Stmt></BkToCstmrStmt></Document>"""


@pytest.mark.parametrize("version", [VERSION_2, VERSION_8])
def test_entries_are_read_whichever_version_they_are_of(version: str) -> None:
    found = read(
        camt(
            Sent("B1", "34.44", "Invoice  INV-2026-00001", "RF76INV202600001"),
            Sent("B2", "-5.00", "Fees", name="The bank"),
            Sent("B3", "9.00", state="PDNG"),
            version=version,
        )
    )
    assert (found.iban, found.unread) == (IBAN, ())
    assert found.lines == (
        BankLine(
            reference="B1",
            booked_on=date(2026, 10, 5),
            value_on=date(2026, 10, 5),
            amount=Decimal("34.44"),
            currency="EUR",
            name="Ferries",
            iban="DE89370400440532013000",
            text="Invoice INV-2026-00001",
            creditor_reference="RF76INV202600001",
        ),
        BankLine(
            reference="B2",
            booked_on=date(2026, 10, 5),
            value_on=date(2026, 10, 5),
            amount=Decimal("-5.00"),
            currency="EUR",
            name="The bank",
            iban="DE89370400440532013000",
            text="Fees",
        ),
    )


def test_an_entry_that_gathers_transfers_is_each_of_them_where_they_come_to_its_amount() -> None:
    one = '<TxDtls><Refs><AcctSvcrRef>T1</AcctSvcrRef></Refs><Amt Ccy="EUR">30.00</Amt></TxDtls>'
    two = '<TxDtls><AmtDtls><TxAmt><Amt Ccy="EUR">{}</Amt></TxAmt></AmtDtls></TxDtls>'
    text = camt(Sent("B1", "34.44"))
    start, end = text.index("<TxDtls>"), text.index("</NtryDtls>")
    gathered = read(text[:start] + one + two.format("4.44") + text[end:]).lines
    assert [(x.reference, x.amount) for x in gathered] == [("T1", Decimal(30)), ("B1/2", Decimal("4.44"))]
    whole = read(text[:start] + one + two.format("4.43") + text[end:]).lines
    assert [(x.reference, x.amount) for x in whole] == [("B1", Decimal("34.44"))]


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (("<AcctSvcrRef>B2</AcctSvcrRef>", ""), "AcctSvcrRef: has no reference of the bank's own"),
        (('<Amt Ccy="EUR">7.00</Amt>', '<Amt Ccy="EUR">7,00</Amt>'), "Amt: is '7,00', which is no amount"),
        (('<Amt Ccy="EUR">7.00</Amt>', ""), "Amt: is not there"),
        (('<Amt Ccy="EUR">7.00</Amt>', '<Amt Ccy="EUR">0</Amt>'), "Amt: is 0; must be above 0"),
        (("<Dt>2026-10-06</Dt>", "<Dt>6 October</Dt>"), "BookgDt: is '6 October', which is no day"),
        (("<Dt>2026-10-06</Dt>", ""), "BookgDt: has no day of booking"),
    ],
)
def test_an_entry_that_cannot_be_used_is_told_and_the_others_are_read(change: tuple[str, str], said: str) -> None:
    text = camt(Sent("B1", "34.44"), Sent("B2", "7.00", day="2026-10-06")).replace(*change)
    found = read(text)
    assert [x.reference for x in found.lines] == ["B1"]
    assert [(x.where, x.what) for x in found.unread] == [("entry 2", said)]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "is no XML: line 1, column 1"),
        ("<a><b></a>", "is no XML: line 1, column 9"),
        ("<a/>", "holds no statement"),
        (BOMB, "document type or entities"),
        (OUTSIDE, "document type or entities"),
        (
            camt(Sent("B1", "1")).replace("</Stmt>", "</Stmt><Stmt><Acct><Id><IBAN>X</IBAN></Id></Acct></Stmt>"),
            "several",
        ),
    ],
)
def test_what_is_no_statement_is_refused(text: str, said: str) -> None:
    with pytest.raises(Invalid, match=said) as refused:
        read(text)
    assert refused.value.where == "text"
