"""What follows where an invoice is not paid."""

from __future__ import annotations

from datetime import UTC, datetime
from decimal import Decimal

import pytest
from sqlalchemy import func, select

from calm_tariff.services.admit import payment_pauses
from calm_tariff.services.base import stamps
from calm_tariff.services.base.context import provider_of
from calm_tariff.services.observe import merging
from calm_tariff.services.serve import gateway_feed
from calm_tariff.services.settle import closing
from calm_tariff.services.settle.accounts import payments, reminding
from calm_tariff.services.settle.documents.invoices import InvoiceView
from calm_tariff.store.base.notices import Notice
from calm_tariff.store.base.record import AuditEntry
from tests.office import Office
from tests.services.months import LATER, at_once
from tests.services.queries import asked
from tests.services.settle.accounts.owing import account, again, agrees, at, pay, whose
from tests.services.settle.documents.recorded import issue


@pytest.fixture
def invoice(office: Office) -> InvoiceView:
    """Ferries' September, due on 17 October."""
    office.clock.now = LATER
    with office.ctx.transaction() as session:
        provider_of(session).reminders_after_days = [3, 10]
        provider_of(session).pause_after_days = 20
        provider_of(session).iban = "PT50000201231234567890154"
    return issue(office)


def told(office: Office, kind: str) -> list[str]:
    with office.ctx.transaction() as session:
        return list(session.scalars(select(Notice.text).where(Notice.kind == kind).order_by(Notice.id)))


def reminded(office: Office, of: InvoiceView) -> list[int]:
    return [r.after_days for r in again(office, of).reminders]


def paused(office: Office, n: int = 0) -> bool:
    with office.ctx.transaction() as session:
        return payment_pauses.running(session, whose(office, n)) is not None


def test_an_invoice_is_overdue_the_day_after_it_was_due(office: Office, invoice: InvoiceView) -> None:
    at(office, 2026, 10, 17)
    assert reminding.look(office.ctx) == 0
    office.clock.now = datetime(2026, 10, 17, 23, tzinfo=UTC)  # midnight in Lisbon
    assert reminding.look(office.ctx) == 1
    assert again(office, invoice).summary.state == "overdue"
    assert reminding.look(office.ctx) == 0
    agrees(office, whose(office))


def test_each_reminder_goes_out_once_and_says_what_is_still_open(office: Office, invoice: InvoiceView) -> None:
    at(office, 2026, 10, 20)
    reminding.look(office.ctx)
    assert reminded(office, invoice) == []
    pay(office, "4.44")
    at(office, 2026, 10, 21)
    assert at_once(office.ctx, lambda _: reminding.look(office.ctx), 4).count(1) == 1
    assert reminded(office, invoice) == [3]
    (words,) = told(office, "payment reminder")
    assert "30.00 EUR of invoice INV-2026-00001 for September 2026 are still open" in words
    assert "PT50000201231234567890154" in words and "RF76INV202600001" in words
    at(office, 2026, 10, 28)
    reminding.look(office.ctx)
    assert reminded(office, invoice) == [3, 10]


def test_a_worker_that_was_away_makes_up_for_no_reminder_but_the_last(office: Office, invoice: InvoiceView) -> None:
    at(office, 2026, 11, 2)
    reminding.look(office.ctx)
    assert reminded(office, invoice) == [10]
    reminding.look(office.ctx)
    assert len(told(office, "payment reminder")) == 1


def test_what_is_paid_is_reminded_of_no_more(office: Office, invoice: InvoiceView) -> None:
    pay(office, invoice.total)
    at(office, 2026, 12, 24)
    assert reminding.look(office.ctx) == 0
    assert (reminded(office, invoice), paused(office)) == ([], False)


def test_calls_are_held_up_and_go_on_with_the_payment(office: Office, invoice: InvoiceView) -> None:
    at(office, 2026, 11, 6)
    reminding.look(office.ctx)
    assert not paused(office)
    at(office, 2026, 11, 7)
    reminding.look(office.ctx)
    assert paused(office) and not paused(office, 1)
    (words,) = told(office, "paused for payment")
    assert "invoice INV-2026-00001 is not paid" in words
    assert payment_pauses.told(office.acting(office.consumers[0])) == "INV-2026-00001"
    pay(office, "34.43")
    assert paused(office)
    office.clock.forward(hours=1)
    pay(office, "0.01")
    assert not paused(office)
    assert len(told(office, "resumed after payment")) == 1
    ((begin, end),) = [(p.start_at, p.end_at) for p in account(office).pauses]
    assert (begin.hour, end and end.hour) == (9, 10)
    with office.ctx.transaction() as session:
        ((stretch,),) = payment_pauses.of_all(session).values()
        actors = select(AuditEntry.actor).where(AuditEntry.action.contains("for payment"))
        assert set(session.scalars(actors)) == {"Calm Tariff"}
    assert stretch.end_us is not None and stretch.end_us - stretch.start_us == 3600 * 10**6
    assert payment_pauses.told(office.acting(office.consumers[0])) == ""


def test_the_gateways_learn_of_a_pause_and_of_its_end(office: Office, invoice: InvoiceView) -> None:
    def known() -> tuple[int, int]:
        feed = gateway_feed.read_feed(office.ctx)
        return stamps.number(office.ctx), len(
            [p for p in feed.payment_pauses.get(whose(office), ()) if p.end_us is None]
        )

    before, running = known()
    assert running == 0
    at(office, 2026, 11, 7)
    reminding.look(office.ctx)
    number, running = known()
    assert running == 1 and number > before
    pay(office, invoice.total)
    assert known()[1] == 0 and known()[0] > number


def test_a_payment_that_goes_back_holds_calls_up_again(office: Office, invoice: InvoiceView) -> None:
    at(office, 2026, 11, 7)
    reminding.look(office.ctx)
    entry = pay(office, invoice.total)
    assert not paused(office)
    payments.went_back(office.finance, entry, "The bank took it back.")
    reminding.look(office.ctx)
    assert paused(office)
    assert len(account(office).pauses) == 2
    assert reminded(office, invoice) == [10]  # and is not reminded of twice


def test_calls_go_on_where_the_house_holds_none_up_any_more(office: Office, invoice: InvoiceView) -> None:
    at(office, 2026, 11, 7)
    reminding.look(office.ctx)
    with office.ctx.transaction() as session:
        provider_of(session).pause_after_days = None
    assert reminding.look(office.ctx) == 1
    assert not paused(office)


def test_whoever_goes_on_for_a_merged_consumer_is_held_up_for_it(office: Office, invoice: InvoiceView) -> None:
    at(office, 2026, 11, 7)
    reminding.look(office.ctx)
    merging.merge(office.manager, whose(office), whose(office, 1), "Ferries")
    assert not paused(office) and not paused(office, 1)
    reminding.look(office.ctx)
    assert not paused(office) and paused(office, 1)
    pay(office, "34.44", n=1)
    assert not paused(office, 1)


def test_who_has_closed_its_account_is_reminded_and_looked_at_no_more_than_others(
    office: Office, invoice: InvoiceView
) -> None:
    closing.close_for(office.manager, whose(office), "Ferries")
    at(office, 2026, 11, 7)
    assert reminding.look(office.ctx) == 1
    assert (reminded(office, invoice), paused(office)) == ([10], False)
    with asked(office.ctx) as found:
        assert reminding.look(office.ctx) == 0
    assert not [said for said in found if "FOR UPDATE" in said]


def test_one_account_that_cannot_be_looked_at_holds_up_no_other(office: Office, invoice: InvoiceView) -> None:
    office.clock.now = LATER
    other = issue(office, consumer="Kayaks")
    with office.ctx.transaction() as session:
        session.connection().exec_driver_sql(
            f"UPDATE money_document SET number = 'MUCHTOOLONGFORACREDITORREFER' WHERE id = {invoice.summary.id}"
        )
    at(office, 2026, 10, 21)
    with pytest.raises(ExceptionGroup):
        reminding.look(office.ctx)
    assert reminded(office, other) == [3]
    with office.ctx.transaction() as session:
        assert session.scalar(select(func.count()).where(Notice.kind == "payment reminder")) == 1
    assert account(office, 1).balance == Decimal("34.44")
