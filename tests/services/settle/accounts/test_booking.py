"""Entries close what they close, in the order of the rule, whoever books beside others."""

from __future__ import annotations

import random
from datetime import timedelta
from decimal import Decimal
from functools import partial

import pytest
from sqlalchemy import func, select

from calm_tariff.core.billing.documents.credit_notes import Taken
from calm_tariff.core.errors import CalmTariffError, Conflict
from calm_tariff.services.observe import merging
from calm_tariff.services.settle.accounts import ledger, payments, reminding, writing_off
from calm_tariff.services.settle.documents import credit_notes, issuing
from calm_tariff.services.settle.documents.credit_notes import Wanted
from calm_tariff.services.settle.documents.invoices import InvoiceView
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.base.record import AuditEntry
from calm_tariff.store.settle.accounts import AccountEntry
from calm_tariff.store.settle.money_documents import Invoice
from tests.office import Office
from tests.services.months import LATER, OCTOBER, SEPTEMBER, at_once, issued
from tests.services.settle.accounts.owing import account, again, agrees, at, entries, pay, today, whose
from tests.services.settle.documents.recorded import arrive, issue

FIVE = Decimal("5.00")


@pytest.fixture
def invoice(office: Office) -> InvoiceView:
    """Ferries' September, of 34.44, due on 17 October."""
    office.clock.now = LATER
    found = issue(office)
    assert found.total == Decimal("34.44")
    return found


def states(office: Office, number: str) -> list[str]:
    """What the record says of an invoice, in order."""
    with office.ctx.transaction() as session:
        query = select(AuditEntry.action).where(AuditEntry.subject == number).order_by(AuditEntry.id)
        return list(session.scalars(query))


def credit(office: Office, of: InvoiceView, amount: str) -> None:
    """Take so much of the fee back, before tax."""
    taken = Taken(line=of.lines[0].id, amount=Decimal(amount))
    credit_notes.issue(office.finance, of.summary.id, Wanted(reason="It was down.", lines=(taken,)))


def test_an_issued_invoice_is_owed_and_a_payment_closes_it(office: Office, invoice: InvoiceView) -> None:
    assert account(office).balance == invoice.total
    pay(office, "30.00", invoice.summary.id)
    part = again(office, invoice)
    assert (part.summary.state, part.summary.open, part.total) == ("issued", Decimal("4.44"), invoice.total)
    pay(office, "4.44")
    whole = again(office, invoice)
    assert (whole.summary.state, whole.summary.open, whole.transfer) == ("paid", 0, None)
    assert [(p.kind, p.amount) for p in whole.closing] == [("payment", Decimal(30)), ("payment", Decimal("4.44"))]
    assert states(office, invoice.summary.number or "") == ["issued an invoice", "found an invoice paid"]
    assert [(e.kind, e.amount, e.balance, e.left) for e in entries(office)] == [
        ("invoice", invoice.total, invoice.total, 0),
        ("payment", Decimal(-30), Decimal("4.44"), 0),
        ("payment", Decimal("-4.44"), 0, 0),
    ]
    agrees(office, whose(office))


def test_what_pays_too_much_is_credit_that_the_next_invoice_uses_at_once(office: Office, invoice: InvoiceView) -> None:
    pay(office, "100.00", invoice.summary.id)
    assert (account(office).credit, account(office).balance) == (Decimal("65.56"), Decimal("-65.56"))
    at(office, 2026, 11, 3)
    october = issue(office, OCTOBER)
    assert october.total == Decimal("49.20")
    assert (october.summary.state, october.summary.open) == ("paid", 0)
    assert [(p.kind, p.amount) for p in october.closing] == [("payment", Decimal("49.20"))]
    assert account(office).credit == Decimal("16.36")
    (payment,) = [e for e in entries(office) if e.kind == "payment"]
    assert [(p.number, p.amount) for p in payment.parts] == [
        ("INV-2026-00001", Decimal("34.44")),
        ("INV-2026-00002", Decimal("49.20")),
    ]
    assert payment.left == Decimal("16.36")
    agrees(office, whose(office))


def test_a_credit_note_closes_its_invoice_and_one_for_what_is_paid_is_credit(
    office: Office, invoice: InvoiceView
) -> None:
    credit(office, invoice, "8.00")
    assert again(office, invoice).summary.open == Decimal("24.60")
    pay(office, "24.60")
    assert again(office, invoice).summary.state == "paid"
    credit(office, invoice, "20.00")
    assert again(office, invoice).summary.state == "paid"
    assert account(office).credit == Decimal("24.60")
    agrees(office, whose(office))


def test_a_payment_that_goes_back_opens_what_it_closed(office: Office, invoice: InvoiceView) -> None:
    entry = pay(office, "34.44", invoice.summary.id)
    at(office, 2026, 10, 18)
    payments.went_back(office.finance, entry, "The bank took it back.")
    now = again(office, invoice)
    assert (now.summary.state, now.summary.open) == ("overdue", invoice.total)
    assert [p.amount for p in now.closing] == [invoice.total, -invoice.total]
    with pytest.raises(Conflict, match="went back already"):
        payments.went_back(office.finance, entry, "Again.")
    assert [(e.kind, e.went_back) for e in entries(office)] == [
        ("invoice", False),
        ("payment", True),
        ("returned payment", False),
    ]
    agrees(office, whose(office))


def test_what_is_paid_in_part_after_it_was_due_is_overdue_and_not_open_again(
    office: Office, invoice: InvoiceView
) -> None:
    at(office, 2026, 10, 18)  # before anybody has looked what is overdue
    pay(office, "4.44", invoice.summary.id)
    assert again(office, invoice).summary.state == "overdue"
    entry = pay(office, "30.00")
    payments.went_back(office.finance, entry, "No cover.")
    assert states(office, invoice.summary.number or "") == [
        "issued an invoice",
        "found an invoice overdue",
        "found an invoice paid",
        "found an invoice open again",
    ]


def test_an_invoice_of_nothing_is_no_entry(office: Office, invoice: InvoiceView) -> None:
    with office.ctx.transaction() as session:
        zero = session.get_one(Invoice, invoice.summary.id)
        assert session.scalar(select(func.count()).where(AccountEntry.document_id == zero.id)) == 1
    credit(office, invoice, "28.00")
    assert again(office, invoice).summary.state == "credited"
    assert account(office).invoices == []


def test_payments_beside_each_other_close_each_invoice_once(office: Office, invoice: InvoiceView) -> None:
    made = at_once(office.finance, lambda n: pay(office, "10.00"), 6)
    assert len(set(made)) == 6
    assert (again(office, invoice).summary.state, account(office).credit) == ("paid", Decimal("25.56"))
    agrees(office, whose(office))


def test_a_payment_beside_an_issue_pays_what_is_issued_or_waits_for_it(office: Office, invoice: InvoiceView) -> None:
    """Whichever is first, nothing is open while there is credit."""
    at(office, 2026, 11, 3)
    charging.run(office.finance, OCTOBER)
    with office.ctx.transaction() as session:
        drafts = list(session.scalars(select(Invoice.id).where(Invoice.state == "draft")))
    work = [lambda: issuing.issue(office.finance, drafts), lambda: pay(office, "60.00"), lambda: pay(office, "24.00")]
    at_once(office.finance, lambda n: work[n](), 3)
    agrees(office, whose(office))
    assert account(office).balance == Decimal("34.44") + Decimal("49.20") - 84


def test_accounts_that_become_one_use_the_credit_of_one_for_the_other(office: Office) -> None:
    office.clock.now = LATER
    issued(office)
    pay(office, "50.00", n=1)
    assert account(office, 1).credit == Decimal("15.56")
    merging.merge(office.manager, whose(office, 1), whose(office), "Kayaks")
    both = account(office)
    assert (both.credit, both.balance) == (0, Decimal("18.88"))
    assert [e.kind for e in entries(office)] == ["invoice", "invoice", "payment"]
    (payment,) = [e for e in entries(office) if e.kind == "payment"]
    assert sorted(p.amount for p in payment.parts) == [Decimal("15.56"), Decimal("34.44")]
    pay(office, "18.88")
    assert account(office).balance == 0


def test_what_is_owed_is_what_is_open(office: Office) -> None:
    ferries, kayaks = whose(office), whose(office, 1)

    def owed(day: object) -> ledger.Owed:
        with office.ctx.transaction() as session:
            return ledger.owed(session, ferries, day)  # type: ignore[arg-type]

    office.clock.now = LATER
    charging.run(office.finance, SEPTEMBER)
    nothing = Decimal(0)
    Owed = partial(ledger.Owed, paused=False)  # noqa: N806
    assert owed(today(office)) == Owed(total=nothing, invoices=0, past_due=0, credit=nothing)  # drafts are none
    issued(office)
    due = today(office) + timedelta(days=14)
    each = Decimal("34.44")
    assert owed(due) == Owed(total=each, invoices=1, past_due=0, credit=nothing)
    assert owed(due + timedelta(days=1)).past_due == 1
    merging.merge(office.manager, kayaks, ferries, "Kayaks")
    assert owed(due) == Owed(total=each * 2, invoices=2, past_due=0, credit=nothing)
    pay(office, "40.00")
    assert owed(due) == Owed(total=each * 2 - 40, invoices=1, past_due=0, credit=nothing)
    pay(office, "40.00")
    assert owed(due) == Owed(total=nothing, invoices=0, past_due=0, credit=80 - each * 2)


@pytest.mark.parametrize("seed", range(6))
def test_whatever_happens_to_an_account_it_is_what_the_rule_makes_of_its_entries(office: Office, seed: int) -> None:
    """Three months of two consumers, with payments, credit notes, refunds, returns and write-offs in any order."""
    dice = random.Random(seed)
    arrive(office, 120, 0)
    for month in (10, 11, 12):
        at(office, 2026, month, 2)
        for done in issued(office, today(office).replace(month=month - 1, day=1)):
            assert done
        for _ in range(14):
            office.clock.forward(days=1)
            _something(office, dice)
            reminding.look(office.ctx)
            for n in (0, 1):
                agrees(office, whose(office, n))


def _something(office: Office, dice: random.Random) -> None:
    n = dice.randrange(2)
    known = [e for e in entries(office, n) if e.kind == "invoice"]
    of = dice.choice(known)
    amount = Decimal(dice.randrange(100, 9000)) / 100
    payment = dice.choice([e for e in entries(office, n) if e.kind == "payment"] or [of])
    wanted = Wanted(reason="Put right.", whole=True)
    step = dice.choice(["pay", "pay", "pay for", "credit", "refund", "return", "write off"])
    try:
        if step == "pay":
            pay(office, amount, n=n)
        elif step == "pay for":
            pay(office, amount, of.document_id, n=n)
        elif step == "credit":
            credit_notes.issue(office.finance, of.document_id or 0, wanted)
        elif step == "refund":
            money = payments.Money(amount=amount, value_on=today(office))
            payments.refund(office.finance, whose(office, n), money)
        elif step == "return":
            payments.went_back(office.finance, payment.id, "It went back.")
        else:
            writing_off.ask(office.finance, of.document_id or 0, "They are gone.")
    except CalmTariffError:
        pass  # what cannot be done changes nothing, which is looked at afterwards
