"""What is paid while somebody looks is shown wholly or not at all: the figures of one look are all of one moment."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal

import pytest

from calm_tariff.services.settle.accounts import aging, ledger
from calm_tariff.services.settle.documents import invoices
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office
from tests.services.months import LATER, issued
from tests.services.queries import meanwhile
from tests.services.settle.accounts.owing import pay, whose

TOTAL = Decimal("34.44")
A_CENT = Decimal("0.01")


def of_invoice(office: Office) -> tuple[Decimal, Decimal]:
    """What is open of the invoice, and what closed some of it."""
    consumer = office.ctx.acting(office.consumers[0].member)
    (own,) = invoices.own(consumer)
    shown = invoices.own_one(consumer, own.id)
    return shown.summary.open, sum((part.amount for part in shown.closing), Decimal(0))


def of_account(office: Office) -> tuple[Decimal, Decimal]:
    """What is open of an account's invoices, and what its balance is below the total."""
    shown = ledger.one(office.finance, whose(office))
    return sum((each.open for each in shown.invoices), Decimal(0)), TOTAL - shown.balance


def of_aging(office: Office) -> tuple[Decimal, Decimal]:
    """What the list of accounts says is open of one, and what all together leave for it below the total."""
    shown = aging.listed(office.finance, PageQuery())
    (one,) = [row.open for row in shown.rows if row.consumer_id == whose(office)]
    others = sum((row.open for row in shown.rows), -one)
    return one, TOTAL - (shown.together.open - others)


@pytest.mark.parametrize("look", [of_invoice, of_account, of_aging])
def test_a_payment_that_comes_in_between_two_statements_is_in_all_figures_or_in_none(
    office: Office, look: Callable[[Office], tuple[Decimal, Decimal]]
) -> None:
    office.clock.now = LATER
    issued(office)
    paid, place, before = Decimal(0), 0, set()
    while True:
        with meanwhile(office.ctx, place, lambda: pay(office, A_CENT)) as sent:
            still_open, closed = look(office)
        if len(sent) <= place:
            break
        assert still_open + closed == TOTAL, f"before “{sent[place]}”"
        assert closed in (paid, paid + A_CENT)
        before.add(closed == paid)
        paid, place = paid + A_CENT, place + 1
    assert place > 4 and before == {True, False}  # it came before the look, and during it
