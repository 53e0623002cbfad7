"""Statements of account say what the ledger says, entry by entry."""

from __future__ import annotations

import io
from datetime import date

import pytest
from pypdf import PdfReader

from calm_tariff.core.errors import Invalid, NotFound, NotSignedIn
from calm_tariff.services.settle.accounts import account_statements, payments
from calm_tariff.services.settle.documents.invoices import InvoiceView
from tests.office import Office
from tests.services.months import LATER
from tests.services.settle.accounts.owing import entries, pay, whose
from tests.services.settle.documents.recorded import issue


@pytest.fixture
def invoice(office: Office) -> InvoiceView:
    """Ferries' September of 34.44; 4.44 came in a week later and went back, and 40 came in November."""
    office.clock.now = LATER
    made = issue(office)
    office.clock.forward(days=7)
    first = pay(office, "4.44")
    payments.went_back(office.finance, first, "No cover.")
    office.clock.forward(days=30)
    pay(office, "40.00", made.summary.id)
    return made


def said(office: Office, first: date | None = None, last: date | None = None) -> str:
    pdf = account_statements.statement(office.finance, whose(office), first, last)
    return " ".join(" ".join(page.extract_text() for page in PdfReader(io.BytesIO(pdf)).pages).split())


def test_a_statement_tells_what_the_ledger_tells(office: Office, invoice: InvoiceView) -> None:
    words = said(office)
    assert "1 January to 9 November 2026" in words
    told = (
        "Invoice INV-2026-00001 34.44 34.44",
        "Payment by transfer -4.44 30.00",
        "Payment that went back 4.44 34.44",
        "Payment by transfer, for INV-2026-00001 -40.00 -5.56",
        "On account on 9 November 2026 EUR 5.56",
    )
    places = [words.find(each) for each in told]
    assert -1 not in places and places == sorted(places)
    assert len(entries(office)) == 4 and "Open now" not in words


def test_what_was_before_is_carried_and_what_comes_after_left_out(office: Office, invoice: InvoiceView) -> None:
    words = said(office, date(2026, 10, 10), date(2026, 10, 31))
    assert "Owed before 34.44" in words and "Owed on 31 October 2026 EUR 34.44" in words
    assert "Invoice INV-2026-00001" not in words and "-40.00" not in words
    assert "Payment by transfer -4.44 30.00" in words


@pytest.mark.parametrize(
    ("first", "last", "where"),
    [(None, date(2026, 11, 10), "last"), (date(2026, 11, 2), date(2026, 11, 1), "first")],
)
def test_days_that_mean_nothing_are_refused(
    office: Office, invoice: InvoiceView, first: date | None, last: date, where: str
) -> None:
    with pytest.raises(Invalid) as refused:
        said(office, first, last)
    assert refused.value.where == where


def test_only_those_who_see_its_money_get_it(office: Office, invoice: InvoiceView) -> None:
    kayaks = office.acting(office.consumers[1])
    pdf = account_statements.own(kayaks, None, None)
    assert "INV-2026-00001" not in PdfReader(io.BytesIO(pdf)).pages[0].extract_text()
    with pytest.raises(NotFound):
        account_statements.statement(office.finance, 10**6, None, None)
    with pytest.raises(NotSignedIn):
        account_statements.statement(kayaks, whose(office), None, None)
