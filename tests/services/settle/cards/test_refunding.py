"""Credit goes back to the card it came from, once, and never more than there is."""

from __future__ import annotations

from decimal import Decimal

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Away, Invalid, NotAllowed, NotFound
from calm_tariff.services.admit import cards
from calm_tariff.services.settle.cards import refunding
from calm_tariff.services.settle.documents.invoices import InvoiceView
from calm_tariff.store.base.jobs import Job
from calm_tariff.store.settle.card_attempts import CardRefund
from tests.office import Office
from tests.services.months import at_once
from tests.services.settle.accounts.owing import account, again, agrees, at, entries, pay, whose
from tests.services.settle.cards.processors import Simulated, told


@pytest.fixture
def credit(office: Office, simulated: Simulated, invoice: InvoiceView) -> InvoiceView:
    """Ferries' September was taken from its card, and paid by a transfer of 40 as well."""
    at(office, 2026, 10, 17)
    simulated.work()
    pay(office, "40")
    return invoice


def state(office: Office) -> list[tuple[str, str]]:
    with office.ctx.transaction() as session:
        return [(r.state, r.failure) for r in session.scalars(select(CardRefund).order_by(CardRefund.id))]


def test_credit_goes_back_to_the_card(office: Office, simulated: Simulated, credit: InvoiceView) -> None:
    asked = refunding.refund(office.finance, whose(office), Decimal("10.50"), "once")
    assert (asked.state, asked.card) == ("planned", "Sandbank Card ending in 1002")
    assert refunding.refund(office.finance, whose(office), Decimal("10.50"), "once") == asked
    assert account(office).credit == Decimal("29.50")  # nothing else can use it any more
    with office.ctx.transaction() as session:
        (job,) = session.scalars(select(Job).where(Job.kind == refunding.PAY_OUT))
    assert job.arguments == {"refund": asked.id}
    assert refunding.make(office.ctx, simulated.asks, asked.id) is None
    assert refunding.make(office.ctx, simulated.asks, asked.id) is None
    assert state(office) == [("paid out", "")]
    (charge,) = simulated.processing.all.charges.values()
    assert charge.refunded == "10.50"
    assert (entries(office)[-1].kind, entries(office)[-1].reference) == ("refund", "to Sandbank Card ending in 1002")
    assert "10.50 EUR" in told(office, "payment refunded")[0]
    assert again(office, credit).attempts[0].went_back == Decimal("10.50")
    agrees(office, whose(office))


@pytest.mark.parametrize(
    ("amount", "words"),
    [
        ("0", "above 0"),
        ("-1", "above 0"),
        ("0.001", "whole minor units"),
        ("NaN", "above 0"),
        ("34.45", "at most 34.44"),
    ],
)
def test_no_more_goes_back_than_came(
    office: Office, simulated: Simulated, credit: InvoiceView, amount: str, words: str
) -> None:
    with pytest.raises(Invalid, match=words) as refused:
        refunding.refund(office.finance, whose(office), Decimal(amount))
    assert refused.value.where == "amount"
    assert state(office) == []


def test_no_more_goes_back_than_is_on_account(office: Office, simulated: Simulated, invoice: InvoiceView) -> None:
    with pytest.raises(Invalid, match="nothing was paid by card"):
        refunding.refund(office.finance, whose(office), Decimal(1))
    at(office, 2026, 10, 17)
    simulated.work()
    assert account(office).refundable == 0
    with pytest.raises(Invalid):
        refunding.refund(office.finance, whose(office), Decimal(1))
    assert state(office) == [] and len(entries(office)) == 2


def test_many_refunds_at_once_come_to_no_more_than_there_is(
    office: Office, simulated: Simulated, credit: InvoiceView
) -> None:
    def refund(_: int) -> bool:
        try:
            refunding.refund(office.finance, whose(office), Decimal(15))
        except Invalid:
            return False
        return True

    assert at_once(office.ctx, refund, 4).count(True) == 2
    assert account(office).credit == 10 and account(office).refundable == Decimal("4.44")
    agrees(office, whose(office))


def test_what_cannot_be_paid_out_is_credit_again(office: Office, simulated: Simulated, credit: InvoiceView) -> None:
    asked = refunding.refund(office.finance, whose(office), Decimal(10))
    cards.remove(office.acting(office.consumers[0]), simulated.asks)
    refunding.make(office.ctx, simulated.asks, asked.id)
    simulated.tell(*simulated.events("refund"))
    assert state(office) == [("failed", "unknown card")]
    assert account(office).credit == 40
    assert entries(office)[-1].reference.startswith(
        "not paid out to Sandbank Card ending in 1002: the payment processor"
    )
    agrees(office, whose(office))


def test_a_refund_is_asked_for_until_it_is_known(office: Office, simulated: Simulated, credit: InvoiceView) -> None:
    asked = refunding.refund(office.finance, whose(office), Decimal(10))
    simulated.be(away=True)
    with pytest.raises(Away):
        refunding.make(office.ctx, simulated.asks, asked.id)
    assert state(office) == [("planned", "")]
    simulated.be()
    refunding.make(office.ctx, simulated.asks, asked.id)
    simulated.tell(*simulated.events("refund"))
    assert state(office) == [("paid out", "")] and account(office).credit == 30


def test_only_finance_pays_out(office: Office, simulated: Simulated, credit: InvoiceView) -> None:
    for ctx in (office.reviewer, office.manager):
        with pytest.raises(NotAllowed):
            refunding.refund(ctx, whose(office), Decimal(1))
    with pytest.raises(NotFound):
        refunding.refund(office.finance, 10**6, Decimal(1))
