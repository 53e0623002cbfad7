"""What a dispute does: the money goes back at once, nothing is tried by itself, and what is won comes in again."""

from __future__ import annotations

from decimal import Decimal
from itertools import permutations

import pytest

from calm_tariff.services.settle.accounts import payments, reminding
from calm_tariff.services.settle.cards import disputes, planning, refunding
from calm_tariff.services.settle.documents.invoices import InvoiceView
from tests.office import Office
from tests.services.months import at_once
from tests.services.settle.accounts.owing import account, again, agrees, at, entries, pay, whose
from tests.services.settle.cards.processors import Simulated, told


@pytest.fixture
def paid(office: Office, simulated: Simulated, invoice: InvoiceView) -> InvoiceView:
    """Ferries' September, taken from its card on the day it was due."""
    at(office, 2026, 10, 17)
    simulated.work()
    return invoice


def shown(office: Office, of: InvoiceView) -> tuple[str, str, bool]:
    one = again(office, of)
    (attempt,) = one.attempts
    return one.summary.state, attempt.dispute, attempt.dispute_booked


def waiting(office: Office) -> int:
    with office.ctx.transaction() as session:
        return disputes.waiting(session)


def test_a_disputed_payment_goes_back_and_is_not_tried_again(
    office: Office, simulated: Simulated, paid: InvoiceView
) -> None:
    at(office, 2026, 10, 20)
    event = simulated.dispute("opened")
    assert at_once(office.ctx, lambda _: simulated.tell(event), 3) == [None] * 3
    assert shown(office, paid) == ("overdue", "open", True) and waiting(office) == 1
    assert [e.kind for e in entries(office)] == ["invoice", "payment", "returned payment"]
    (words,) = told(office, "payment returned")
    assert "Its owner disputes it. The goods did not come." in words
    assert again(office, paid).next_try is None
    for day in (20, 24):
        at(office, 2026, 10, day)
        assert simulated.work() == []
    at(office, 2026, 10, 25)
    assert reminding.look(office.ctx) == 1  # a dispute puts nothing off
    planning.try_now(office.finance, paid.summary.id)  # a person may
    simulated.work()
    assert again(office, paid).summary.state == "paid"
    agrees(office, whose(office))


def test_a_dispute_that_is_won_brings_the_money_in_again(
    office: Office, simulated: Simulated, paid: InvoiceView
) -> None:
    simulated.tell(simulated.dispute("opened"))
    office.clock.forward(days=5)
    won = simulated.dispute("won")
    simulated.tell(won, won)
    assert shown(office, paid) == ("paid", "won", True) and waiting(office) == 0
    assert [e.kind for e in entries(office)] == ["invoice", "payment", "returned payment", "payment"]
    assert (account(office).balance, len(told(office, "payment received"))) == (0, 2)
    agrees(office, whose(office))


def test_a_dispute_that_is_lost_leaves_the_invoice_open(
    office: Office, simulated: Simulated, paid: InvoiceView
) -> None:
    simulated.tell(simulated.dispute("opened"), simulated.dispute("lost"))
    assert shown(office, paid) == ("issued", "lost", True) and waiting(office) == 0
    assert account(office).open == Decimal("34.44") and again(office, paid).next_try is None
    agrees(office, whose(office))


@pytest.mark.parametrize("ends", ["won", "lost"])
@pytest.mark.parametrize("order", list(permutations(range(3))), ids=str)
def test_events_in_any_order_come_to_the_same(
    office: Office, simulated: Simulated, invoice: InvoiceView, ends: str, order: tuple[int, ...]
) -> None:
    at(office, 2026, 10, 17)
    simulated.be(loses=True)
    with pytest.raises(Exception, match="504"):
        simulated.work()
    events = [simulated.events("charge.taken")[0], simulated.dispute("opened"), simulated.dispute(ends)]
    for place in order:
        simulated.tell(events[place], events[place])
    assert shown(office, invoice)[1] == ends
    assert account(office).balance == (0 if ends == "won" else Decimal("34.44"))
    assert waiting(office) == 0
    agrees(office, whose(office))


def test_what_was_paid_out_in_part_waits_for_a_person(office: Office, simulated: Simulated, paid: InvoiceView) -> None:
    pay(office, "10")
    refund = refunding.refund(office.finance, whose(office), Decimal(4))
    refunding.make(office.ctx, simulated.asks, refund.id)
    before = len(entries(office))
    simulated.tell(simulated.dispute("opened"))
    assert shown(office, paid) == ("paid", "open", False) and waiting(office) == 1
    assert len(entries(office)) == before
    simulated.tell(simulated.dispute("won"))
    assert len(entries(office)) == before
    agrees(office, whose(office))


def test_a_payment_that_a_person_booked_back_is_not_booked_back_again(
    office: Office, simulated: Simulated, paid: InvoiceView
) -> None:
    payments.went_back(office.finance, entries(office)[-1].id, "The processor told us by letter.")
    simulated.tell(simulated.dispute("opened"))
    assert shown(office, paid) == ("issued", "open", False) and waiting(office) == 1
    simulated.tell(simulated.dispute("lost"))
    assert waiting(office) == 0  # it is over, and a person has booked it
    assert [e.kind for e in entries(office)] == ["invoice", "payment", "returned payment"]


def test_a_disputed_payment_gives_no_refund(office: Office, simulated: Simulated, paid: InvoiceView) -> None:
    pay(office, "40")
    assert account(office).refundable == Decimal("34.44")
    simulated.tell(simulated.dispute("opened"))
    assert account(office).refundable == 0
