"""Documents on paper: what stands on them, and that they are whole, tagged, and carry their fonts and their data."""

from __future__ import annotations

import io
import re
from dataclasses import replace
from datetime import date
from decimal import Decimal

import facturx
import pytest
from PIL import Image
from pypdf import PdfReader

from calm_tariff.core.billing.documents.issued import Issued
from calm_tariff.core.errors import Invalid
from calm_tariff.formats import pictures
from calm_tariff.formats.money_documents import electronic, paper
from calm_tariff.formats.money_documents.paper import Entry, Look, StatementOfAccount
from calm_tariff.formats.money_documents.payment_code import payment_code
from tests.formats.money_documents.samples import ALL, INVOICE, MIXED, NOTE, REVERSE, SELLER, WITHOUT_BANK, line

LOOK = Look(main_colour="#153B5B", title_font="Newsreader", text_font="Figtree")


def read(pdf: bytes) -> str:
    """What stands on it, in one line."""
    return " ".join(" ".join(page.extract_text() for page in PdfReader(io.BytesIO(pdf)).pages).split())


@pytest.mark.parametrize("of", ALL, ids=lambda of: of.number)
def test_a_paper_is_tagged_and_carries_its_fonts_and_its_data(of: Issued) -> None:
    pdf = paper.document(of, LOOK)
    reader = PdfReader(io.BytesIO(pdf))
    root = reader.trailer["/Root"]
    assert root["/MarkInfo"]["/Marked"] and "/StructTreeRoot" in root and root["/Lang"] == "en-GB"
    assert root["/Metadata"].get_data().find(b"pdfaid:part") > 0
    assert reader.metadata is not None and reader.metadata.title == f"{of.kind.capitalize()} {of.number}"
    fonts = {str(font["/BaseFont"]) for page in reader.pages for font in _fonts(page)}
    assert fonts and all("+" in each for each in fonts) and any("Figtree" in each for each in fonts)
    name, data = facturx.get_xml_from_pdf(pdf)
    assert (name, data) == ("factur-x.xml", electronic.cii(of))


def _fonts(page: object) -> list[dict[str, object]]:
    found = page["/Resources"]["/Font"]  # type: ignore[index]
    return [font.get_object() for font in found.values()]


def test_an_invoice_says_what_the_law_wants() -> None:
    said = read(paper.document(MIXED, LOOK))
    for words in (
        "Larkmouth Tide Office",
        "Harbour House, 1 Pier Road",
        "Portugal",
        "Tax number PT599999993",
        "Gannet Ferries & Søns <Lda>",
        "INV-2026-00003",
        "2 October 2026",
        "1 to 30 September 2026",
        "16 October 2026",
        "Timetable on Harbour Data · Ketch",
        "30,000.5",
        "late for August 2026",
        "Subtotal 70.30",
        "VAT 23% of 52.30 12.03",
        "VAT 6.5% of 1.00 0.07",
        "Total EUR 82.40",
        "Paid from credit on account -2.40",
        "To be paid EUR 80.00",
        "PT50 0002 0123 1234 5678 9015 4",
        "RF76 INV2 0260 0001",
        "BESCPTPL",
        "Exempt from VAT",
        "Page 1 of 1",
    ):
        assert words in said, words


def test_who_pays_by_card_is_told_when_and_who_is_charged_in_reverse_that() -> None:
    said = read(paper.document(REVERSE, LOOK))
    assert "EUR 40.00 are taken from your card on 16 October 2026. Nothing is left to do." in said
    assert "Reverse charge: the recipient is liable for the VAT" in said and "Tax number DE136695976" in said
    assert "IBAN" not in said


def test_a_credit_note_says_what_it_corrects_and_asks_for_nothing() -> None:
    said = read(paper.document(NOTE, LOOK))
    assert "Corrects INV-2026-00001 of 2 October 2026" in said and "Counted twice. Sorry." in said
    assert "To be paid" not in said and "Total taken back EUR 43.05" in said


def test_whoever_writes_papers_still_takes_no_picture_that_is_cut_off() -> None:
    paper.document(INVOICE, LOOK)
    whole = io.BytesIO()
    Image.new("RGB", (50, 40), "#153B5B").save(whole, "PNG")
    with pytest.raises(Invalid, match="cannot be read"):
        pictures.drawn(whole.getvalue()[:60], "logo", "logo")


def test_what_people_typed_is_text() -> None:
    evil = replace(INVOICE, buyer=replace(INVOICE.buyer, name="<img src='http://127.0.0.1:1/x'> {{ 7 * 7 }}"))
    assert "<img src='http://127.0.0.1:1/x'> {{ 7 * 7 }}" in read(paper.document(evil, LOOK))


def test_a_long_invoice_goes_on_over_pages_and_says_which() -> None:
    long = replace(INVOICE, lines=tuple(line("1.00", label=f"Meter {n}") for n in range(120)))
    pdf = paper.document(replace(long, seller=replace(SELLER, country="")), LOOK)
    pages = [" ".join(page.extract_text().split()) for page in PdfReader(io.BytesIO(pdf)).pages]
    assert len(pages) > 2 and f"Page 2 of {len(pages)}" in pages[1]
    assert all("Rule" in page for page in pages[:-1])  # the table's head stands on each


def test_a_document_that_cannot_be_electronic_is_on_paper_all_the_same() -> None:
    pdf = paper.document(replace(INVOICE, buyer=replace(INVOICE.buyer, country="")), LOOK)
    assert "INV-2026-00001" in read(pdf) and "/EmbeddedFiles" not in PdfReader(io.BytesIO(pdf)).trailer["/Root"].get(
        "/Names", {}
    )


def test_a_statement_tells_what_was_owed_entry_by_entry() -> None:
    of = StatementOfAccount(
        seller="Larkmouth Tide Office",
        address="Harbour House",
        buyer="Gannet Ferries",
        buyer_address="Cais Velho 12",
        first=date(2026, 9, 15),
        last=date(2026, 10, 31),
        currency="EUR",
        before=Decimal("10.00"),
        entries=(
            Entry(
                on=date(2026, 10, 2), what="Invoice INV-2026-00001", amount=Decimal("43.05"), balance=Decimal("53.05")
            ),
            Entry(on=date(2026, 10, 9), what="Payment", amount=Decimal("-10.00"), balance=Decimal("43.05")),
        ),
        after=Decimal("43.05"),
        open=[("INV-2026-00001", date(2026, 10, 16), Decimal("43.05"))],
        iban="PT50000201231234567890154",
    )
    said = read(paper.statement(of, LOOK))
    for words in ("15 September to 31 October 2026", "Owed before 10.00", "Payment -10.00 43.05", "EUR 43.05"):
        assert words in said, words
    assert "On account on 31 October 2026 EUR 5.00" in read(
        paper.statement(replace(of, after=Decimal(-5), open=[]), LOOK)
    )


def test_the_code_of_a_transfer_says_all_that_it_needs(monkeypatch: pytest.MonkeyPatch) -> None:
    assert payment_code(INVOICE).startswith("data:image/svg+xml")
    none = (REVERSE, NOTE, WITHOUT_BANK, replace(INVOICE, currency="USD"), replace(INVOICE, used=INVOICE.total))
    assert [payment_code(of) for of in none] == [""] * 5
    given: dict[str, object] = {}

    class Code:
        def svg_data_uri(self, **_: object) -> str:
            return "data:"

    def make(**of: object) -> Code:
        given.update(of)
        return Code()

    monkeypatch.setattr("calm_tariff.formats.money_documents.payment_code.helpers.make_epc_qr", make)
    payment_code(MIXED)
    assert (given["iban"], given["reference"], given["bic"]) == (SELLER.iban, "RF76INV202600001", "BESCPTPL")
    assert re.fullmatch(r"80\.00?", str(given["amount"]))
