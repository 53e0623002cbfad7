"""What the running month comes to is what a draft invoice says of it; at its end, what the same rating says of the use
that is expected."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from decimal import Decimal

from calm_tariff.services.admit.desk import asking
from calm_tariff.services.admit.desk.asking import MoveAsked
from calm_tariff.services.settle import running_month
from calm_tariff.services.settle.documents import invoices
from calm_tariff.services.settle.periods import charging, periods
from calm_tariff.services.settle.running_month import RunningMonth
from calm_tariff.store.base.paging import PageQuery
from tests.office import START, Office
from tests.services.months import SEPTEMBER
from tests.services.usages import usage


def seen(office: Office, consumer: int = 0) -> RunningMonth:
    return running_month.running(office.acting(office.consumers[consumer]))


def drafted(office: Office, consumer: str) -> invoices.InvoiceView:
    charging.run(office.finance, SEPTEMBER)
    period = periods.one(office.finance, SEPTEMBER, PageQuery())
    return invoices.one(office.finance, next(c.invoice_id for c in period.charges.rows if c.consumer == consumer) or 0)


def test_so_far_is_what_the_draft_of_the_month_says(office: Office) -> None:
    usage(office, 37)
    office.clock.forward(days=1)
    found = seen(office)
    draft = drafted(office, "Ferries")
    assert [(x.label, x.quantity, x.amount) for x in found.lines] == [
        (x.label, x.quantity, x.amount) for x in draft.lines
    ]
    assert (found.now.subtotal, found.now.tax, found.now.total) == (draft.subtotal, draft.tax, draft.total)
    assert sum((x.amount or Decimal(0)) for x in found.lines) == found.now.subtotal
    assert (found.days_so_far, found.days) == (11, 30)
    assert all(line.application == "Ferries app" for line in found.lines)


def test_by_the_end_use_goes_on_as_it_has(office: Office) -> None:
    usage(office, 37)  # within the first minutes
    office.clock.forward(days=1)
    found = seen(office)
    # A day after the first call, and ten and a half after the month began: used ÷ elapsed goes on (section 4).
    begun = datetime(2026, 8, 31, 23, tzinfo=UTC)
    elapsed, whole = office.ctx.now - begun, timedelta(days=30)
    expected = round(Decimal(37) * Decimal(whole / elapsed))
    fee, line = found.lines
    assert fee.amount == fee.amount_then
    assert (line.quantity, line.quantity_then) == (37, expected)
    # 7 of 10 included in 21 of 30 days; 20 at 0.004, and the rest at 0.003.
    priced = expected - 7
    assert line.amount_then == (Decimal(20) * Decimal("0.004") + (priced - 20) * Decimal("0.003")).quantize(
        Decimal("0.01")
    )
    assert found.then.subtotal == sum((x.amount_then or Decimal(0)) for x in found.lines)


def test_what_has_ended_or_is_paused_goes_on_no_more(office: Office) -> None:
    usage(office, 37)
    office.clock.forward(days=1)
    own = office.acting(office.consumers[0])
    asking.ask_to_move(own, office.consumers[0].subscription, MoveAsked(kind="pause"))
    office.clock.forward(days=1)
    line = seen(office).lines[-1]
    assert line.quantity == line.quantity_then == 37
    asking.ask_to_move(own, office.consumers[0].subscription, MoveAsked(kind="end"))
    office.clock.forward(days=1)
    assert seen(office).now == seen(office).then


def test_a_month_without_a_plan_comes_to_nothing(office: Office) -> None:
    gulls = office.join("Gulls")
    found = running_month.running(office.ctx.acting(gulls))
    assert found.lines == [] and found.now == found.then and found.now.total == 0 and found.currency == "EUR"
    assert found.month == START.date().replace(day=1)
