"""Issued documents are written down once, by a job, and are the same for ever."""

from __future__ import annotations

import hashlib
import io
from datetime import timedelta
from decimal import Decimal
from typing import Any

import pytest
from pypdf import PdfReader
from sqlalchemy import delete, select, update

from calm_tariff.core.billing.documents.credit_notes import Taken
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.services.admit.organisation import details
from calm_tariff.services.admit.organisation.details import Details
from calm_tariff.services.base import mailing
from calm_tariff.services.base.context import provider_of
from calm_tariff.services.settle.documents import credit_notes, files, invoices
from calm_tariff.services.settle.documents.credit_notes import Wanted
from calm_tariff.services.settle.documents.invoices import InvoiceView
from calm_tariff.store.base.jobs import Job
from calm_tariff.store.base.record import Mail
from calm_tariff.store.settle.document_files import DocumentFile
from tests.formats.money_documents.samples import UBL, broken, values
from tests.office import Office
from tests.services.months import LATER, at_once, record
from tests.services.settle.accounts.owing import again, pay, whose
from tests.services.settle.documents.recorded import issue


@pytest.fixture
def invoice(office: Office) -> InvoiceView:
    """Ferries' September, of a provider and to a consumer of whom everything is known."""
    record(office, 30)
    office.clock.now = LATER
    with office.ctx.transaction() as session:
        provider = provider_of(session)
        provider.country, provider.tax_number, provider.address = "PT", "PT599999993", "Pier 1"
        provider.iban = "PT50000201231234567890154"
    details.change(office.manager, whose(office), Details(address="Cais Velho 12", country="PT"))
    return issue(office)


def text(content: bytes) -> str:
    return " ".join(" ".join(page.extract_text() for page in PdfReader(io.BytesIO(content)).pages).split())


def jobs(office: Office) -> list[dict[str, Any]]:
    with office.ctx.transaction() as session:
        return list(session.scalars(select(Job.arguments).where(Job.kind == files.WRITE)))


def test_what_is_issued_is_written_down_by_a_job(office: Office, invoice: InvoiceView) -> None:
    of = invoice.summary.id
    assert (jobs(office), invoice.files) == ([{"document": of}], [])
    with pytest.raises(Conflict, match="is being written down"):
        files.one(office.finance, of, "pdf")
    assert files.write(office.ctx, of) is True
    assert again(office, invoice).files == ["pdf", "ubl"]
    pdf, ubl = files.one(office.finance, of, "pdf"), files.own(office.acting(office.consumers[0]), of, "ubl")
    assert (pdf.name, pdf.media_type) == ("INV-2026-00001.pdf", "application/pdf")
    assert (ubl.name, ubl.media_type) == ("INV-2026-00001.xml", "application/xml")
    assert pdf.digest == hashlib.sha256(pdf.content).hexdigest()
    said = text(pdf.content)
    for line in invoice.lines:
        assert f"{line.amount:.2f}" in said and line.label in said
    assert f"Total EUR {invoice.total:.2f}" in said and "Ferries app on Harbour Data · Ketch" in said
    assert broken(ubl.content, UBL) == []
    assert values(ubl.content, "LegalMonetaryTotal/PayableAmount") == [f"{invoice.total:.2f}"]
    assert values(ubl.content, "InvoiceLine/LineExtensionAmount") == [f"{x.amount:.2f}" for x in invoice.lines]
    assert values(ubl.content, "InvoicePeriod/EndDate")[0] == "2026-09-30"


def test_it_stays_the_same_whatever_changes_afterwards(office: Office, invoice: InvoiceView) -> None:
    of = invoice.summary.id
    with office.ctx.transaction() as session:
        provider_of(session).name = "Another Office"
    details.change(office.manager, whose(office), Details(address="Elsewhere 1", country="DE"))
    at_once(office.ctx, lambda _: files.write(office.ctx, of), 3)
    first = files.one(office.finance, of, "pdf")
    said = text(first.content)
    assert "Cais Velho 12" in said and "Portugal" in said and "Another Office" not in said
    assert files.write(office.ctx, of) is False
    assert files.one(office.finance, of, "pdf") == first
    with office.ctx.transaction() as session:
        assert len(session.scalars(select(DocumentFile.id).where(DocumentFile.document_id == of)).all()) == 2


def test_nobody_gets_anothers_file_or_that_of_a_draft(office: Office, invoice: InvoiceView) -> None:
    files.write(office.ctx, invoice.summary.id)
    with pytest.raises(NotFound):
        files.own(office.acting(office.consumers[1]), invoice.summary.id, "pdf")
    with office.ctx.transaction() as session:
        drafts = select(invoices.Invoice.id).where(invoices.Invoice.number.is_(None))
        draft = session.scalars(drafts).first()
    assert draft is not None
    assert files.write(office.ctx, draft) is False
    for ask in (lambda: files.one(office.finance, draft, "pdf"), lambda: files.one(office.finance, 10**6, "ubl")):
        with pytest.raises(NotFound):
            ask()


def test_what_an_electronic_one_lacks_is_named(office: Office) -> None:
    office.clock.now = LATER
    invoice = issue(office)
    files.write(office.ctx, invoice.summary.id)
    assert again(office, invoice).files == ["pdf"]
    with pytest.raises(Conflict, match="the provider's country, and the consumer's country"):
        files.one(office.finance, invoice.summary.id, "ubl")


def test_credit_on_account_that_paid_of_it_is_taken_off(office: Office, invoice: InvoiceView) -> None:
    pay(office, invoice.total + 10)
    office.clock.forward(days=31)
    october = issue(office, invoice.summary.period_end)
    files.write(office.ctx, october.summary.id)
    pay(office, "1.00")  # what is paid later changes nothing
    ubl = files.one(office.finance, october.summary.id, "ubl").content
    assert values(ubl, "LegalMonetaryTotal/PrepaidAmount") == ["10.00"]
    assert values(ubl, "LegalMonetaryTotal/PayableAmount") == [f"{october.total - 10:.2f}"]


def test_a_credit_note_is_written_down_with_what_it_corrects(office: Office, invoice: InvoiceView) -> None:
    fee = next(x for x in invoice.lines if x.kind == "fee")
    wanted = Wanted(reason="A quay was closed.", lines=(Taken(line=fee.id, amount=Decimal(1)),))
    note = credit_notes.issue(office.finance, invoice.summary.id, wanted)
    assert {"document": note.id} in jobs(office)
    files.write(office.ctx, note.id)
    ubl = files.one(office.finance, note.id, "ubl").content
    assert values(ubl, "InvoiceDocumentReference/ID") == ["INV-2026-00001"] and broken(ubl, UBL) == []
    said = text(files.one(office.finance, note.id, "pdf").content)
    assert "A quay was closed." in said and "of INV-2026-00001" in said and "Total taken back EUR 1.23" in said


def test_a_document_of_before_is_written_with_who_is_known_now(office: Office, invoice: InvoiceView) -> None:
    with office.ctx.transaction() as session:
        session.execute(update(invoices.Invoice).values(parties=None))
        session.execute(delete(Job).where(Job.kind == files.WRITE))
    with pytest.raises(Conflict, match="is being written"):
        files.one(office.finance, invoice.summary.id, "pdf")
    assert jobs(office) == [{"document": invoice.summary.id}]
    files.write(office.ctx, invoice.summary.id)
    assert "Cais Velho 12" in text(files.one(office.finance, invoice.summary.id, "pdf").content)


class Server:
    """A mail server, which keeps what it is given."""

    taken: list[Any] = []

    def __init__(self, *_: object, **__: object) -> None: ...

    def __enter__(self) -> Server:
        return self

    def __exit__(self, *_: object) -> None: ...

    def send_message(self, message: Any) -> None:
        self.taken.append(message)


def test_the_letter_brings_it_along_once_it_is_written(
    office: Office, invoice: InvoiceView, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(mailing.smtplib, "SMTP", Server)
    Server.taken = []
    with office.ctx.transaction() as session:
        letter = session.scalars(select(Mail.id).where(Mail.encloses == invoice.summary.id)).one()

    def send() -> object:
        return mailing.send(office.ctx, letter, "localhost", 25, lambda of: files.enclosed(office.ctx, of))

    assert send() == office.ctx.now + mailing.LOOKS_AGAIN and Server.taken == []
    files.write(office.ctx, invoice.summary.id)
    assert send() is None
    (message,) = Server.taken
    (enclosed,) = message.iter_attachments()
    assert (enclosed.get_filename(), enclosed.get_content_type()) == ("INV-2026-00001.pdf", "application/pdf")
    assert enclosed.get_content() == files.one(office.finance, invoice.summary.id, "pdf").content
    assert f"/invoices/{invoice.summary.id}" in message.get_body(("plain",)).get_content()
    assert send() is None and len(Server.taken) == 1


def test_a_letter_waits_for_what_it_encloses_no_longer_than_it_says(
    office: Office, invoice: InvoiceView, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(mailing.smtplib, "SMTP", Server)
    Server.taken = []
    with office.ctx.transaction() as session:
        letter = session.scalars(select(Mail.id).where(Mail.encloses == invoice.summary.id)).one()
    office.clock.now += mailing.WAITS_FOR_FILE - timedelta(seconds=1)
    assert mailing.send(office.ctx, letter, "localhost", 25) is not None
    office.clock.forward(seconds=1)
    assert mailing.send(office.ctx, letter, "localhost", 25) is None
    assert list(Server.taken[0].iter_attachments()) == []
