"""Money that is booked by hand, and what those who paid are told."""

from __future__ import annotations

from datetime import date
from decimal import Decimal

import pytest
from sqlalchemy import select

from calm_tariff.core.billing.accounts.payments import Money
from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, NotSignedIn
from calm_tariff.services.observe import subscription_history
from calm_tariff.services.settle.accounts import payments
from calm_tariff.services.settle.documents.invoices import InvoiceView
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.base.notices import Notice
from calm_tariff.store.settle.accounts import AccountEntry
from calm_tariff.store.settle.money_documents import Invoice
from tests.office import Office
from tests.services.months import LATER, at_once
from tests.services.settle.accounts.owing import account, agrees, entries, pay, today, whose
from tests.services.settle.documents.recorded import issue


@pytest.fixture
def invoice(office: Office) -> InvoiceView:
    """Ferries' September, of 34.44."""
    office.clock.now = LATER
    return issue(office)


def refund(office: Office, amount: str, key: str | None = None) -> int:
    money = Money(amount=Decimal(amount), value_on=today(office), reference="back to them")
    return payments.refund(office.finance, whose(office), money, key).id


def told(office: Office, kind: str) -> list[tuple[str, str]]:
    with office.ctx.transaction() as session:
        query = select(Notice).where(Notice.kind == kind).order_by(Notice.id)
        return [(n.subject, n.text) for n in session.scalars(query)]


def test_who_paid_gets_a_receipt_of_where_it_went(office: Office, invoice: InvoiceView) -> None:
    pay(office, "50.00")
    ((subject, text),) = told(office, "payment received")
    assert subject == "Test Office has received 50.00 EUR"
    assert "came in on 3 October 2026" in text
    assert "- INV-2026-00001: 34.44" in text and "15.56 EUR of it is credit on account" in text
    (_, row) = entries(office)
    assert (row.reference, row.value_on, row.paid_by, row.made_by) == (
        "our transfer",
        date(2026, 10, 3),
        "transfer",
        "Beatriz",
    )


def test_credit_is_paid_out_and_never_more_than_there_is(office: Office, invoice: InvoiceView) -> None:
    pay(office, "50.00")
    with pytest.raises(Invalid, match=r"is 0\.01 more than the credit on account") as refused:
        refund(office, "15.57")
    assert refused.value.where == "amount"
    refund(office, "15.00")
    assert (account(office).credit, account(office).balance) == (Decimal("0.56"), Decimal("-0.56"))
    assert len(told(office, "payment refunded")) == 1
    (payment,) = [e for e in entries(office) if e.kind == "payment"]
    assert [(p.kind, p.amount) for p in payment.parts] == [("invoice", Decimal("34.44")), ("refund", Decimal(15))]
    with pytest.raises(Invalid, match="were paid out again"):
        payments.went_back(office.finance, payment.id, "It went back.")
    agrees(office, whose(office))


def test_refunds_beside_each_other_never_pay_out_more_than_there_is(office: Office, invoice: InvoiceView) -> None:
    pay(office, "54.44")

    def one(_: int) -> bool:
        try:
            return bool(refund(office, "8.00"))
        except Invalid:
            return False

    assert at_once(office.finance, one, 5).count(True) == 2
    assert account(office).credit == 4
    agrees(office, whose(office))


def test_a_key_books_once(office: Office, invoice: InvoiceView) -> None:
    first, *others = at_once(office.finance, lambda _: pay(office, "10.00", key="k"), 4)
    assert others == [first] * 3
    assert account(office).balance == Decimal("24.44")
    with pytest.raises(Conflict, match="another request"):
        pay(office, "11.00", key="k")
    pay(office, "50.00")
    assert len({refund(office, "5.00", key="r") for _ in range(2)}) == 1
    back = [payments.went_back(office.finance, first, "It went back.", "b").id for _ in range(2)]
    assert len(set(back)) == 1


def test_a_payment_names_an_issued_invoice_of_the_same_consumer(office: Office, invoice: InvoiceView) -> None:
    other = issue(office, consumer="Kayaks").summary.id
    with pytest.raises(Invalid, match="no invoice of this consumer") as refused:
        pay(office, "1.00", other)
    assert refused.value.where == "invoice_id"
    with pytest.raises(Invalid):
        pay(office, "1.00", 99_999)
    office.clock.forward(days=30)
    charging.run(office.finance, date(2026, 10, 1))
    with office.ctx.transaction() as session:
        mine = Invoice.state == "draft", Invoice.consumer_id == whose(office)
        draft = session.scalar(select(Invoice.id).where(*mine))
    with pytest.raises(Invalid, match="is draft"):
        pay(office, "1.00", draft)
    assert len(entries(office)) == 1


def test_only_finance_books_and_only_what_is_there(office: Office, invoice: InvoiceView) -> None:
    money = Money(amount=Decimal(5), value_on=today(office))
    for ctx in (office.reviewer, office.manager, office.acting(office.consumers[0])):
        with pytest.raises((NotAllowed, NotSignedIn)):
            payments.receive(ctx, whose(office), money)
        with pytest.raises((NotAllowed, NotSignedIn)):
            payments.refund(ctx, whose(office), money)
        with pytest.raises((NotAllowed, NotSignedIn)):
            payments.went_back(ctx, 1, "It went back.")
    with pytest.raises(NotFound):
        payments.receive(office.finance, 99_999, money)
    with pytest.raises(NotFound):
        payments.went_back(office.finance, 99_999, "It went back.")
    with pytest.raises(Conflict, match="is no payment but an invoice"):
        payments.went_back(office.finance, entries(office)[0].id, "It went back.")
    with pytest.raises(Invalid):
        payments.went_back(office.finance, pay(office, "1.00"), " ")
    with office.ctx.transaction() as session:
        assert {e.kind for e in session.scalars(select(AccountEntry))} == {"invoice", "payment"}


def test_payments_stand_in_the_history_of_a_subscription(office: Office, invoice: InvoiceView) -> None:
    entry = pay(office, "30.00")
    payments.went_back(office.finance, entry, "It went back.")
    history = subscription_history.one(office.finance, office.consumers[0].subscription).events
    said = [(e.what, e.text) for e in history if e.kind == "payment"]
    assert said == [
        ("payment", "€30.00 of INV-2026-00001 closed"),
        ("returned payment", "€30.00 of INV-2026-00001 is open again"),
    ]
