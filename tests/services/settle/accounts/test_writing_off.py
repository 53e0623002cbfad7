"""Writing off what is open: with a reason, and by two people where it is much."""

from __future__ import annotations

from decimal import Decimal

import pytest

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound
from calm_tariff.services.base.context import Actor, Context, provider_of
from calm_tariff.services.settle.accounts import payments, writing_off
from calm_tariff.services.settle.documents import credit_notes
from calm_tariff.services.settle.documents.credit_notes import Wanted
from calm_tariff.services.settle.documents.invoices import InvoiceView
from tests.office import Office
from tests.services.months import LATER, at_once
from tests.services.settle.accounts.owing import account, again, agrees, entries, pay, whose
from tests.services.settle.documents.recorded import issue

GONE = "They have closed, and answer nobody."


@pytest.fixture
def invoice(office: Office) -> InvoiceView:
    """Ferries' September, of 34.44; more than 20 takes two people."""
    office.clock.now = LATER
    with office.ctx.transaction() as session:
        provider_of(session).write_off_limit = Decimal(20)
    return issue(office)


def second(office: Office) -> Context:
    return office.ctx.acting(Actor("Henrique", frozenset({"finance"}), person_id=77))


def ask(office: Office, of: InvoiceView, reason: str = GONE, key: str | None = None) -> int:
    return writing_off.ask(office.finance, of.summary.id, reason, key).id


def test_little_is_given_up_at_once(office: Office, invoice: InvoiceView) -> None:
    pay(office, "20.00")
    made = writing_off.ask(office.finance, invoice.summary.id, GONE)
    assert (made.state, made.amount, made.own) == ("agreed", Decimal("14.44"), True)
    now = again(office, invoice)
    assert (now.summary.state, now.summary.open) == ("written off", 0)
    (entry,) = [e for e in entries(office) if e.kind == "write-off"]
    assert (entry.amount, entry.reason, entry.names) == (Decimal("-14.44"), GONE, "INV-2026-00001")
    assert account(office).balance == 0
    agrees(office, whose(office))
    with pytest.raises(Conflict, match="nothing is open"):
        ask(office, invoice)
    with pytest.raises(Conflict, match="written off"):
        credit_notes.issue(office.finance, invoice.summary.id, Wanted(reason="Late.", whole=True))


def test_much_waits_for_somebody_else(office: Office, invoice: InvoiceView) -> None:
    made = ask(office, invoice)
    assert again(office, invoice).write_offs[0].state == "waiting"
    assert account(office).balance == invoice.total
    with pytest.raises(Conflict, match="waits to be written off already"):
        ask(office, invoice)
    with pytest.raises(NotAllowed, match="somebody else"):
        writing_off.agree(office.finance, made)
    pay(office, "10.00")
    writing_off.agree(second(office), made)
    now = again(office, invoice)
    assert [(w.state, w.agreed_by, w.amount) for w in now.write_offs] == [("agreed", "Henrique", Decimal("24.44"))]
    assert now.summary.state == "written off"
    for do in (writing_off.agree, writing_off.take_back):
        with pytest.raises(Conflict):
            do(second(office), made)


def test_what_is_paid_meanwhile_is_not_given_up(office: Office, invoice: InvoiceView) -> None:
    made = ask(office, invoice)
    pay(office, invoice.total)
    with pytest.raises(Conflict, match="is paid: nothing is open"):
        writing_off.agree(second(office), made)
    assert again(office, invoice).summary.state == "paid"
    writing_off.take_back(office.finance, made)
    assert again(office, invoice).write_offs == []


def test_a_payment_beside_an_agreement_and_another_is_taken_once(office: Office, invoice: InvoiceView) -> None:
    made = ask(office, invoice)

    def one(n: int) -> str:
        try:
            if n:
                writing_off.agree(second(office), made)
            else:
                pay(office, invoice.total)
        except Conflict as error:
            return error.what
        return "done"

    said = at_once(office.finance, one, 3)
    assert said.count("done") >= 1
    rule = agrees(office, whose(office))
    assert rule.invoices[0].state in ("paid", "written off")


def test_a_reason_and_the_role_are_needed(office: Office, invoice: InvoiceView) -> None:
    with pytest.raises(Invalid) as refused:
        ask(office, invoice, " ")
    assert refused.value.where == "reason"
    with pytest.raises(NotAllowed):
        writing_off.ask(office.reviewer, invoice.summary.id, GONE)
    with pytest.raises(NotFound):
        writing_off.ask(office.finance, 99_999, GONE)
    for do in (writing_off.agree, writing_off.take_back):
        with pytest.raises(NotFound):
            do(office.finance, 99_999)


def test_a_key_asks_once(office: Office, invoice: InvoiceView) -> None:
    assert len({ask(office, invoice, key="k") for _ in range(3)}) == 1
    assert len(again(office, invoice).write_offs) == 1


def test_a_payment_that_goes_back_after_a_write_off_is_open_alone(office: Office, invoice: InvoiceView) -> None:
    entry = pay(office, "30.00")
    ask(office, invoice)
    payments.went_back(office.finance, entry, "It went back.")
    now = again(office, invoice)
    assert (now.summary.state, now.summary.open) == ("issued", Decimal("30.00"))
    agrees(office, whose(office))
