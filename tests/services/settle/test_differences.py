"""What a move comes to is said beforehand, to the cent that stands on the draft invoice afterwards."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from decimal import Decimal
from typing import Any

import pytest

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.routes import Route
from calm_tariff.services.admit.desk import asking
from calm_tariff.services.admit.desk.asking import MoveAsked
from calm_tariff.services.compose.sheet import plans
from calm_tariff.services.serve import history
from calm_tariff.services.serve.shipping import assign
from calm_tariff.services.settle import differences
from calm_tariff.services.settle.differences import Difference
from calm_tariff.services.settle.documents import invoices
from calm_tariff.services.settle.periods import charging
from tests.office import Consumer, Office, terms
from tests.services.months import LATER, SEPTEMBER, issued, period
from tests.services.usages import usage

OCTOBER = datetime(2026, 9, 30, 23, tzinfo=UTC)  # midnight in Lisbon
PRICED = {"Skiff": terms(2, 5, 30, fee="12.50"), "Ketch": terms(fee="40"), "Cutter": terms(units=500, fee="90.01")}


@pytest.fixture
def one(office: Office) -> Consumer:
    """A consumer on Ketch, where plans are to be had for the asking, after 37 calls and a day."""
    for name, wanted in PRICED.items():
        if name not in office.plans:
            office.plans[name] = plans.add(office.manager, office.product, name).plans[-1].id
        office.draft(name, wanted)
    office.publish("next period")
    new = office.admit("Anglers", "Ketch")
    office.change_product(route=Route(otherwise="open"))
    office.consumers.insert(0, new)
    usage(office, 37)
    office.clock.forward(days=1)
    return new


def worked_out(office: Office, by: Consumer, kind: Any, when: Any = "now", plan: str | None = None) -> Difference:
    asked = MoveAsked(kind=kind, when=when, plan_id=office.plans[plan] if plan else None)
    return differences.difference(office.acting(by), by.subscription, asked)


def do(office: Office, by: Consumer, kind: Any, when: Any = "now", plan: str | None = None) -> None:
    asked = MoveAsked(kind=kind, when=when, plan_id=office.plans[plan] if plan else None)
    asking.ask_to_move(office.acting(by), by.subscription, asked)


def drafted(office: Office, consumer: str) -> invoices.InvoiceView:
    charging.run(office.finance, SEPTEMBER)
    line = next(c for c in period(office).charges.rows if c.consumer == consumer)
    assert line.invoice_id
    return invoices.one(office.finance, line.invoice_id)


@pytest.mark.parametrize(
    ("kind", "when", "plan"),
    [
        ("change plan", "now", "Cutter"),
        ("change plan", "now", "Skiff"),
        ("change plan", "later", "Cutter"),
        ("pause", "now", None),
        ("end", "now", None),
        ("end", "later", None),
    ],
)
def test_the_difference_is_what_the_draft_invoice_says_afterwards(
    office: Office, one: Consumer, kind: str, when: str, plan: str | None
) -> None:
    before = drafted(office, "Anglers")
    said = worked_out(office, one, kind, when, plan)
    assert (said.without.subtotal, said.without.invoice_total) == (before.subtotal, before.total)
    assert [x.amount for x in said.without.lines] == [x.amount for x in before.lines]
    assert said.more == said.after.subtotal - said.without.subtotal
    do(office, one, kind, when, plan)
    after = drafted(office, "Anglers")
    assert (said.after.subtotal, said.after.invoice_total) == (after.subtotal, after.total)
    assert [(x.plan, x.label, x.rule, x.days, x.amount) for x in said.after.lines] == [
        (x.charged.plan, x.label, x.rule, x.charged.days, x.amount) for x in after.lines
    ]
    if when == "later":
        assert said.at == OCTOBER and said.after == said.without and said.more == 0
    else:
        assert said.at == office.ctx.now and said.after.subtotal != said.without.subtotal


def test_a_move_up_is_charged_by_the_days_of_each(office: Office, one: Consumer) -> None:
    said = worked_out(office, one, "change plan", plan="Cutter")
    fees = [(x.plan, x.days, x.amount) for x in said.after.lines if x.label == "Fee"]
    # The 10th ended on Ketch; the 11th, which runs, will end on Cutter. 40 × 1/30 and 90.01 × 20/30.
    assert fees == [("Ketch", 1, Decimal("1.33")), ("Cutter", 20, Decimal("60.01"))]
    assert (said.month_days, said.month_before, said.month_after) == (30, Decimal("40.00"), Decimal("90.01"))
    assert said.consequences[0] == "Today counts as a day of Cutter."
    assert said.refused == [] and not said.undoes and said.currency == "EUR"


def test_what_is_used_already_and_would_be_refused_is_said(office: Office, one: Consumer) -> None:
    said = worked_out(office, one, "change plan", plan="Skiff")
    assert said.refused == ["37 forecast calls are used of 30 a month; more are refused"]
    assert worked_out(office, one, "change plan", "later", "Skiff").refused == []
    office.change_product(moves_anew=True)
    assert worked_out(office, one, "change plan", plan="Skiff").refused == []


def test_a_month_of_a_pause_costs_nothing_and_one_after_it_as_before(office: Office, one: Consumer) -> None:
    pause = worked_out(office, one, "pause")
    assert (pause.month_before, pause.month_after) == (Decimal("40.00"), 0)
    do(office, one, "pause")
    office.clock.forward(days=3)
    moved = worked_out(office, one, "change plan", plan="Cutter")
    assert (moved.month_before, moved.month_after) == (0, 0)
    resumed = worked_out(office, one, "resume")
    assert (resumed.month_before, resumed.month_after) == (0, Decimal("40.00"))
    # 21 days of the month were left from the 10th on; the 11th to the 13th ended in the pause.
    (fee,) = [x for x in resumed.after.lines if x.label == "Fee"]
    assert (fee.days, fee.amount) == (18, Decimal("24.00"))
    do(office, one, "resume")
    assert drafted(office, "Anglers").subtotal == resumed.after.subtotal


def test_an_end_says_what_is_open_and_what_was_to_come_is_undone(office: Office, one: Consumer) -> None:
    office.clock.now = LATER
    issued(office)
    number = invoices.own(office.acting(one))[0].number
    do(office, one, "change plan", "later", "Skiff")
    ends = worked_out(office, one, "end")
    assert (ends.open_invoices, ends.undoes, ends.month_after) == ([number], True, 0)
    assert worked_out(office, one, "pause").undoes is False
    assert worked_out(office, one, "pause").open_invoices == []


def test_a_trial_costs_nothing_and_what_follows_it_is_said(office: Office) -> None:
    office.draft("Ketch", {**terms(), "trial": {"days": 14, "then": "charge"}})
    office.publish("keep")
    new = office.admit("Anglers", "Ketch")
    office.change_product(route=Route(otherwise="open"))
    ends = worked_out(office, new, "end", "later")
    assert (ends.month_before, ends.month_after) == (Decimal("40.00"), 0)
    assert {x.amount for x in ends.after.lines} == {Decimal("0.00")} and all(x.trial for x in ends.after.lines)
    stays = worked_out(office, new, "change plan", "later", "Ketch")
    assert (stays.month_after, stays.after) == (Decimal("40.00"), stays.without)


def test_a_difference_is_refused_as_its_move_is(office: Office, one: Consumer) -> None:
    with pytest.raises(NotFound, match="no such subscription"):
        differences.difference(office.acting(office.consumers[1]), one.subscription, MoveAsked(kind="end"))
    with pytest.raises(NotFound, match="no such plan on sale"):
        differences.difference(office.acting(one), one.subscription, MoveAsked(kind="change plan", plan_id=999))
    with pytest.raises(Invalid, match="on Ketch already"):
        worked_out(office, one, "change plan", plan="Ketch")
    with pytest.raises(Conflict, match="not paused"):
        worked_out(office, one, "resume")


def test_calls_of_every_stretch_are_charged_once(office: Office, one: Consumer) -> None:
    """37 before; 5 on Cutter; 3 that a gateway let in as the pause began; 4 after it: each on one line, none twice."""
    do(office, one, "change plan", plan="Cutter")

    def calls(count: int, tail: int) -> None:
        made = [office.call(one, office.ctx.now + timedelta(seconds=n + 1), tail + n) for n in range(count)]
        with office.ctx.transaction() as session:
            assign(session, made)
        history.take_in(office.ctx, made)

    calls(5, 100)
    office.clock.forward(days=1)
    do(office, one, "pause")
    calls(3, 200)
    office.clock.forward(days=1)
    do(office, one, "resume")
    calls(4, 300)
    view = drafted(office, "Anglers")
    found = [(x.charged.plan, x.quantity) for x in view.lines if x.kind == "usage"]
    assert found == [("Ketch", 37), ("Cutter", 12)]
