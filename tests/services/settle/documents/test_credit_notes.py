"""What is taken back of an issued invoice: line by line, never more than is left, with a number of its own."""

from __future__ import annotations

from datetime import UTC, date, datetime
from decimal import ROUND_HALF_UP, Decimal

import pytest
from sqlalchemy import select, update

from calm_tariff.core.billing.documents.credit_notes import Taken
from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound
from calm_tariff.services.settle.accounts import ledger
from calm_tariff.services.settle.books import audits
from calm_tariff.services.settle.documents import credit_notes, invoices
from calm_tariff.services.settle.documents.credit_notes import Issued, Wanted
from calm_tariff.services.settle.documents.invoices import InvoiceView
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.base.notices import Notice
from calm_tariff.store.settle.money_documents import CreditNote, DocumentTax
from tests.office import Office, terms
from tests.services.months import LATER, OCTOBER, SEPTEMBER, at_once
from tests.services.settle.documents.recorded import arrive, invoice_of, issue, lose

NOVEMBER = date(2026, 11, 1)


@pytest.fixture
def invoice(office: Office) -> InvoiceView:
    """Ferries' September: fee 28.00, usage 460: 1.38."""
    arrive(office, 460, 0)
    office.clock.now = LATER
    found = issue(office)
    assert [x.amount for x in found.lines] == [Decimal("28.00"), Decimal("1.38")]
    return found


def credit(office: Office, of: InvoiceView, *taken: tuple[int, str], key: str | None = None, **more: object) -> Issued:
    lines = tuple(Taken(line=of.lines[place].id, amount=Decimal(amount)) for place, amount in taken)
    wanted = Wanted(reason="A quay was closed.", lines=lines, **more)  # type: ignore[arg-type]
    return credit_notes.issue(office.finance, of.summary.id, wanted, key)


def amounts(of: InvoiceView) -> dict[str, str]:
    return {x.kind: f"{x.amount:.2f}" for x in of.lines}


def cents(amount: Decimal) -> Decimal:
    return amount.quantize(Decimal("0.01"), ROUND_HALF_UP)


def again(office: Office, of: InvoiceView) -> InvoiceView:
    return invoices.one(office.finance, of.summary.id)


def test_a_credit_note_names_the_invoice_and_its_lines(office: Office, invoice: InvoiceView) -> None:
    made = credit(office, invoice, (0, "10.00"), (1, "0.38"))
    note = invoices.credit_note(office.finance, made.id)
    assert (note.summary.number, note.summary.invoice) == ("CN-2026-00001", "INV-2026-00001")
    assert [(x.label, x.amount, x.corrects.number) for x in note.lines] == [
        ("Fee", Decimal("10.00"), "INV-2026-00001"),
        ("Forecast calls", Decimal("0.38"), "INV-2026-00001"),
    ]
    assert (note.subtotal, note.tax, note.total) == (Decimal("10.38"), Decimal("2.39"), Decimal("12.77"))
    now = again(office, invoice)
    assert [x.credited for x in now.lines] == [Decimal("10.00"), Decimal("0.38")]
    assert [n.number for n in now.credit_notes] == ["CN-2026-00001"]
    assert (now.total, now.summary.state) == (invoice.total, "issued")  # which never changes
    with office.ctx.transaction() as session:
        owed = ledger.owed(session, office.consumers[0].member.own_consumer, LATER.date())
        (told,) = session.scalars(select(Notice).where(Notice.kind == "credit note issued"))
    assert owed.total == invoice.total - Decimal("12.77")
    assert "takes 12.77 EUR off invoice INV-2026-00001" in told.text and "A quay was closed." in told.text
    own = office.acting(office.consumers[0])
    assert [n.number for n in invoices.own_credit_notes(own)] == ["CN-2026-00001"]
    assert invoices.own_credit_note(own, made.id).total == Decimal("12.77")
    with pytest.raises(NotFound):
        invoices.own_credit_note(office.acting(office.consumers[1]), made.id)


def test_what_it_would_come_to_is_said_before_and_nothing_is_issued(office: Office, invoice: InvoiceView) -> None:
    parts = Wanted(reason="", lines=(Taken(line=invoice.lines[0].id, amount=Decimal("10.00")),))
    said = credit_notes.worked_out(office.finance, invoice.summary.id, parts)
    assert (said.subtotal, said.tax, said.total) == (Decimal("10.00"), Decimal("2.30"), Decimal("12.30"))
    whole = credit_notes.worked_out(office.finance, invoice.summary.id, Wanted(reason="", whole=True))
    assert whole.total == invoice.total
    assert again(office, invoice).credit_notes == []
    assert credit(office, invoice, (0, "1.00")).number == "CN-2026-00001"


def test_no_line_is_credited_beyond_itself(office: Office, invoice: InvoiceView) -> None:
    credit(office, invoice, (0, "20.00"))
    with pytest.raises(Conflict, match=r"more than the 8\.0000 left") as refused:
        credit(office, invoice, (1, "0.10"), (0, "8.01"))
    assert refused.value.where == "lines[1].amount"
    assert len(again(office, invoice).credit_notes) == 1  # all or nothing
    credit(office, invoice, whole=True)
    assert again(office, invoice).summary.state == "credited"
    with pytest.raises(Conflict, match="credited whole already"):
        credit(office, invoice, whole=True)
    with office.ctx.transaction() as session:
        assert sum(session.scalars(select(CreditNote.total))) == invoice.total
        assert ledger.owed(session, office.consumers[0].member.own_consumer, LATER.date()).total == 0


@pytest.mark.parametrize("parts", [("0.11", "0.11", "27.78"), ("0.02", "0.02", "27.96"), ("9.99", "9.99", "8.02")])
def test_what_is_taken_back_bit_by_bit_comes_to_what_was_charged_with_its_tax(
    office: Office, invoice: InvoiceView, parts: tuple[str, ...]
) -> None:
    """Each rounded for itself, the first would come to a cent of tax more than was charged, the second to one less."""
    notes = [credit(office, invoice, (0, part)) for part in parts] + [credit(office, invoice, (1, "1.38"))]
    views = [invoices.credit_note(office.finance, note.id) for note in notes]
    assert sum(view.tax for view in views) == invoice.tax and sum(view.total for view in views) == invoice.total
    assert [view.tax for view in views[:-1]] == [cents(Decimal(part) * 23 / 100) for part in parts]
    assert again(office, invoice).summary.state == "credited"
    assert audits.look_through(office.finance).differences == []


def test_a_hand_in_the_tax_of_the_last_of_several_notes_is_found(office: Office, invoice: InvoiceView) -> None:
    for part in ("0.11", "0.11", "27.78"):
        credit(office, invoice, (0, part))
    last = credit(office, invoice, (1, "1.38"))
    with office.ctx.transaction() as session:
        session.execute(update(DocumentTax).where(DocumentTax.document_id == last.id).values(tax="0.33"))
    what = {each.what for each in audits.look_through(office.finance).differences if each.check == "documents"}
    assert f"tax of 23% of {last.number}" in " ".join(what)


def test_whoever_credits_beside_others_credits_once(office: Office, invoice: InvoiceView) -> None:
    def one(_: int) -> str:
        try:
            return credit(office, invoice, (0, "28.00")).number
        except Conflict:
            return ""

    numbers = at_once(office.finance, one, 4)
    assert sorted(numbers) == ["", "", "", "CN-2026-00001"]


def test_a_key_credits_once(office: Office, invoice: InvoiceView) -> None:
    first, *others = at_once(office.finance, lambda _: credit(office, invoice, (0, "5.00"), key="k"), 3)
    assert others == [first] * 2
    assert again(office, invoice).lines[0].credited == Decimal("5.00")
    with pytest.raises(Conflict, match="another request"):
        credit(office, invoice, (0, "6.00"), key="k")


def test_only_what_is_issued_is_credited_by_whoever_may_and_with_a_reason(office: Office) -> None:
    charging.run(office.finance, SEPTEMBER)
    draft = invoice_of(office)
    with pytest.raises(Conflict, match="is draft"):
        credit(office, draft, (0, "1.00"))
    with pytest.raises(Invalid, match="say why"):
        credit_notes.issue(office.finance, draft.summary.id, Wanted(reason=" ", whole=True))
    with pytest.raises(NotFound):
        credit_notes.issue(office.finance, 10**9, Wanted(reason="x", whole=True))
    with pytest.raises(NotAllowed):
        credit_notes.issue(office.manager, draft.summary.id, Wanted(reason="x", whole=True))


def test_what_is_given_back_is_not_charged_again_unless_it_is_said(office: Office, invoice: InvoiceView) -> None:
    credit(office, invoice, (1, "1.38"))
    office.clock.now = datetime(2026, 11, 3, tzinfo=UTC)
    assert [x for x in issue(office, OCTOBER).lines if x.sort == "late"] == []
    credit(office, invoice, (0, "28.00"), chargeable_again=True)
    office.clock.now = datetime(2026, 12, 3, tzinfo=UTC)
    late = [(x.kind, x.amount) for x in issue(office, NOVEMBER).lines if x.sort == "late"]
    assert late == [("fee", Decimal("28.00"))]
    office.clock.now = datetime(2027, 1, 3, tzinfo=UTC)
    assert [x for x in issue(office, date(2026, 12, 1)).lines if x.sort == "late"] == []


def test_where_less_is_recorded_now_a_credit_note_is_proposed(office: Office, invoice: InvoiceView) -> None:
    with pytest.raises(Conflict, match="comes to no less"):
        credit_notes.issue_proposed(office.finance, invoice.summary.id, "Counted twice.")
    lose(office, 400)
    (proposed,) = again(office, invoice).proposed
    assert (proposed.label, proposed.number, proposed.amount) == (
        "Forecast calls",
        "INV-2026-00001",
        Decimal("1.20"),
    )
    first, *rest = at_once(
        office.finance, lambda _: credit_notes.issue_proposed(office.finance, invoice.summary.id, "Twice.", "k"), 3
    )
    assert rest == [first] * 2
    (made,) = first
    note = invoices.credit_note(office.finance, made.id)
    assert [(x.amount, x.quantity) for x in note.lines] == [(Decimal("1.20"), Decimal(400))]
    assert note.chargeable_again
    now = again(office, invoice)
    assert now.proposed == [] and now.lines[1].late == 0
    # What comes back after all is charged late.
    arrive(office, 400, 5000)
    office.clock.now = datetime(2026, 11, 3, tzinfo=UTC)
    (late,) = [x for x in issue(office, OCTOBER).lines if x.sort == "late"]
    assert (late.amount, late.quantity, late.before) == (Decimal("1.20"), Decimal(400), Decimal("0.18"))


def test_what_was_charged_late_is_taken_back_on_a_note_of_its_own(office: Office) -> None:
    arrive(office, 60, 0)
    office.clock.now = LATER
    september = issue(office)
    arrive(office, 400, 100)
    office.clock.now = datetime(2026, 11, 3, tzinfo=UTC)
    october = issue(office, OCTOBER)
    lose(office, 460)
    assert [(p.label, p.number, p.amount) for p in again(office, september).proposed] == [
        ("Forecast calls", september.summary.number, Decimal("0.18")),
        ("Forecast calls", october.summary.number, Decimal("1.20")),
    ]
    made = credit_notes.issue_proposed(office.finance, september.summary.id, "A test of ours.")
    notes = [invoices.credit_note(office.finance, each.id) for each in made]
    assert [(n.summary.invoice, n.subtotal) for n in notes] == [
        (september.summary.number, Decimal("0.18")),
        (october.summary.number, Decimal("1.20")),
    ]
    assert again(office, september).proposed == []
    office.clock.now = datetime(2026, 12, 3, tzinfo=UTC)
    assert [x for x in issue(office, NOVEMBER).lines if x.sort == "late"] == []


def test_what_a_minimum_takes_stands_on_the_note_that_gives_back_as_much(office: Office) -> None:
    priced = terms()
    priced["pricing"] |= {"minimum": "45", "prorate": False}
    office.draft("Ketch", priced)
    office.publish("keep")
    terns = len(office.consumers)
    office.consumers.append(office.admit("Terns", "Ketch"))
    arrive(office, 60, 0, whose=terns)
    office.clock.now = LATER
    september = issue(office, consumer="Terns")
    assert amounts(september) == {"fee": "40.00", "usage": "0.17", "minimum": "4.83"}
    arrive(office, 2000, 100, whose=terns)
    office.clock.now = datetime(2026, 11, 3, tzinfo=UTC)
    october = issue(office, OCTOBER, "Terns")
    assert [(x.kind, x.amount) for x in october.lines if x.sort == "late"] == [
        ("usage", Decimal("6.00")),
        ("minimum", Decimal("-4.83")),
    ]
    lose(office, 2060, whose=terns)
    made = credit_notes.issue_proposed(office.finance, september.summary.id, "A test of ours.")
    notes = [invoices.credit_note(office.finance, each.id) for each in made]
    assert [(n.summary.invoice, [(x.kind, x.amount) for x in n.lines]) for n in notes] == [
        (september.summary.number, [("usage", Decimal("0.17"))]),
        (october.summary.number, [("usage", Decimal("6.00")), ("minimum", Decimal("-5.00"))]),
    ]
    assert [n.total for n in notes] == [Decimal("0.21"), Decimal("1.23")]
    assert again(office, september).proposed == []
    office.clock.now = datetime(2026, 12, 3, tzinfo=UTC)
    assert [x for x in issue(office, NOVEMBER, "Terns").lines if x.sort == "late"] == []


def test_what_was_given_back_already_is_not_proposed(office: Office, invoice: InvoiceView) -> None:
    credit(office, invoice, (1, "0.50"))
    lose(office, 460)
    assert [p.amount for p in again(office, invoice).proposed] == [Decimal("0.88")]
    credit_notes.issue_proposed(office.finance, invoice.summary.id, "A test of ours.")
    assert again(office, invoice).proposed == []
