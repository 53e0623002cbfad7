"""Electronic invoices hold to the schemas and to the official rules of EN 16931, and say what the document says."""

from __future__ import annotations

from dataclasses import replace
from decimal import Decimal

import facturx
import pytest

from calm_tariff.core.billing.documents.issued import Buyer, Issued, missing
from calm_tariff.core.errors import Conflict
from calm_tariff.formats.money_documents import electronic
from tests.formats.money_documents.samples import (
    ALL,
    CII,
    INVOICE,
    LONG_ADDRESS,
    MIXED,
    NOTE,
    REVERSE,
    UBL,
    broken,
    values,
)


@pytest.mark.parametrize("of", ALL, ids=lambda of: of.number)
def test_every_document_holds_to_the_schemas_and_the_rules(of: Issued) -> None:
    ubl, cii = electronic.ubl(of), electronic.cii(of)
    assert facturx.xml_check_xsd(ubl) and facturx.xml_check_xsd(cii)
    assert broken(ubl, UBL) == [] and broken(cii, CII) == []


def test_what_breaks_a_rule_is_seen() -> None:
    wrong = replace(INVOICE, total=Decimal("43.06"))
    assert [each.split(":")[0] for each in broken(electronic.ubl(wrong), UBL)] == ["BR-CO-15"]
    assert broken(electronic.cii(replace(INVOICE, groups=())), CII) != []


def test_it_says_what_the_document_says() -> None:
    ubl = electronic.ubl(MIXED)
    assert values(ubl, "Invoice/ID") == [] and values(ubl, "ID")[0] == "INV-2026-00003"
    assert values(ubl, "InvoiceLine/LineExtensionAmount") == ["40.00", "12.30", "10.00", "7.00", "1.00"]
    assert values(ubl, "InvoiceLine/Item/ClassifiedTaxCategory/ID") == ["S", "S", "E", "Z", "S"]
    assert values(ubl, "TaxSubtotal/TaxCategory/Percent") == ["23", "0", "0", "6.5"]
    assert values(ubl, "TaxSubtotal/TaxCategory/TaxExemptionReason") == ["Exempt from VAT"]
    assert values(ubl, "LegalMonetaryTotal/PrepaidAmount") == ["2.40"]
    assert values(ubl, "LegalMonetaryTotal/PayableAmount") == ["80.00"]
    assert values(ubl, "PaymentMeans/PaymentMeansCode") == ["58"]
    assert values(ubl, "PaymentMeans/PaymentID") == ["RF76INV202600001"]
    assert values(ubl, "PayeeFinancialAccount/FinancialInstitutionBranch/ID") == ["BESCPTPL"]
    names = values(ubl, "InvoiceLine/Item/Name")
    assert names[:2] == ["Forecast calls, Timetable on Harbour Data · Ketch", "A week without data"]
    told = values(ubl, "InvoiceLine/Item/Description")
    assert told[0] == "30000.5 used. 2,000 included, then €0.0040 each" and told[1] == "late for August 2026"


def test_a_line_below_nothing_is_taken_away_once() -> None:
    ubl = electronic.ubl(INVOICE)
    assert values(ubl, "InvoicedQuantity") == ["1", "-1", "1"]
    assert values(ubl, "Price/PriceAmount") == ["40.00", "5.00", "0.00"]


def test_a_card_and_a_reverse_charge_are_said_by_their_codes() -> None:
    ubl = electronic.ubl(REVERSE)
    assert values(ubl, "PaymentMeansCode") == ["48"] and values(ubl, "PayeeFinancialAccount/ID") == []
    assert values(ubl, "TaxSubtotal/TaxCategory/TaxExemptionReasonCode") == ["VATEX-EU-AE"]


def test_a_credit_note_names_what_it_corrects_and_why() -> None:
    ubl = electronic.ubl(NOTE)
    assert values(ubl, "CreditNoteTypeCode") == ["381"]
    assert values(ubl, "InvoiceDocumentReference/ID") == ["INV-2026-00001"]
    assert values(ubl, "InvoiceDocumentReference/IssueDate") == ["2026-10-02"]
    assert values(ubl, "Note")[0].startswith("Counted twice.")
    assert values(ubl, "PaymentMeans/PaymentMeansCode") == []


def test_an_address_of_many_lines_is_kept_whole() -> None:
    cii = electronic.cii(LONG_ADDRESS)
    assert values(cii, "BuyerTradeParty/PostalTradeAddress/LineThree") == ["c, d, e"]


@pytest.mark.parametrize(
    ("of", "what"),
    [
        (replace(INVOICE, seller=replace(INVOICE.seller, country="")), "the provider's country"),
        (replace(INVOICE, buyer=replace(INVOICE.buyer, country="")), "the consumer's country"),
        (replace(INVOICE, seller=replace(INVOICE.seller, tax_number="")), "the provider's tax number"),
        (replace(REVERSE, buyer=Buyer(name="Kajak GmbH", country="DE")), "the consumer's tax number"),
        (replace(INVOICE, currency="KWD"), "at most two decimals, and KWD has 3"),
    ],
)
def test_what_it_cannot_do_without_is_named(of: Issued, what: str) -> None:
    assert len(missing(of)) == 1 and what in missing(of)[0]
    with pytest.raises(Conflict, match=what) as refused:
        electronic.ubl(of)
    assert refused.value.where == of.number
