"""What a period owes, and what becomes of it: drafts, numbers, late usage, and the same asked twice."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from threading import Barrier
from typing import Any

import pytest
from sqlalchemy import select
from starlette.testclient import TestClient

from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.numbering import document_number
from calm_tariff.edge import lists
from calm_tariff.services.admit import carrying_over
from calm_tariff.services.base.context import Actor, Context
from calm_tariff.services.compose import tariff_sheet
from calm_tariff.services.house import sessions
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.observe import today
from calm_tariff.services.serve import history
from calm_tariff.services.settle import charging, invoices
from calm_tariff.services.settle.charging import PeriodView, RunningCharge
from calm_tariff.settings import Settings
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.settle.invoices import ChargeRun, Invoice
from calm_tariff.web import create_app
from tests.office import PASSWORD, START, Office, terms

SEPTEMBER, OCTOBER = date(2026, 9, 1), date(2026, 10, 1)
LATER = datetime(2026, 10, 3, 9, tzinfo=UTC)


def of(office: Office, consumer: str, start: date = SEPTEMBER) -> RunningCharge:
    return next(c for c in period(office, start).charges.rows if c.consumer == consumer)


def period(office: Office, start: date = SEPTEMBER) -> PeriodView:
    return charging.one(office.finance, start, PageQuery())


def issued(office: Office, start: date = SEPTEMBER) -> list[int]:
    charging.run(office.finance, start)
    drafts = period(office, start).drafts
    charging.issue(office.finance, drafts)
    return drafts


def record(office: Office, count: int, since: datetime = START, tail: int = 0, **more: Any) -> None:
    one = office.consumers[0]
    calls = [office.call(one, since + timedelta(minutes=n), tail + n, **more) for n in range(count)]
    history.take_in(office.ctx, calls)


def test_the_number_says_kind_year_and_place() -> None:
    assert document_number("invoice", 2026, 17) == "INV-2026-00017"
    assert document_number("credit note", 2027, 123_456) == "CN-2027-123456"


def test_a_draft_of_the_running_month_stands_beside_what_runs_up(office: Office) -> None:
    charging.run(office.finance, SEPTEMBER)
    drafted = of(office, "Ferries")
    assert (drafted.invoiced, drafted.charge, drafted.invoice_number) == (drafted.charge, drafted.charge, None)
    record(office, 1000)
    now = of(office, "Ferries")
    assert now.invoiced == drafted.invoiced and now.charge > drafted.charge
    both = period(office)
    assert both.draft_subtotal == sum((c.invoiced or 0) for c in both.charges.rows) < both.subtotal


def test_numbers_are_given_at_issue_from_one_on_without_a_gap(office: Office) -> None:
    record(office, 5)
    charging.run(office.finance, SEPTEMBER)
    charging.run(office.finance, SEPTEMBER)  # drafts made anew cost no number
    office.clock.now = LATER
    first, second = period(office).drafts
    charging.issue(office.finance, [first])
    with pytest.raises(Conflict, match="issued"):
        charging.issue(office.finance, [second, first])  # one is no draft: neither is issued, nor a number used
    charging.issue(office.finance, [second])
    with office.ctx.transaction() as session:
        found = [session.get_one(Invoice, n).number for n in (first, second)]
    assert found == ["INV-2026-00001", "INV-2026-00002"]
    office.clock.now = datetime(2027, 1, 2, tzinfo=UTC)
    charging.run(office.finance, OCTOBER)
    charging.issue(office.finance, period(office, OCTOBER).drafts)
    with office.ctx.transaction() as session:
        numbers = session.scalars(select(Invoice.number).where(Invoice.period_start == OCTOBER).order_by(Invoice.id))
        assert list(numbers) == ["INV-2027-00001", "INV-2027-00002"]  # a series for each year of issue


def at_once(ctx: Context, work: Any, many: int) -> list[Any]:
    gate = Barrier(many)

    def one(n: int) -> Any:
        gate.wait()
        return work(n)

    with ThreadPoolExecutor(many) as pool:
        return list(pool.map(one, range(many)))


def test_whoever_issues_beside_others_shares_their_series(office: Office) -> None:
    for n in range(6):
        office.consumers.append(office.admit(f"Guest {n}".replace(" ", ""), "Ketch"))
    charging.run(office.finance, SEPTEMBER)
    office.clock.now = LATER
    drafts = period(office).drafts
    at_once(office.finance, lambda n: charging.issue(office.finance, [drafts[n]]), len(drafts))
    with office.ctx.transaction() as session:
        numbers = sorted(session.scalars(select(Invoice.number)))
    assert numbers == [document_number("invoice", 2026, n) for n in range(1, len(drafts) + 1)]


def test_two_runs_at_once_with_one_key_are_one_run(office: Office) -> None:
    record(office, 5)
    first, *others = at_once(office.finance, lambda _: charging.run(office.finance, SEPTEMBER, "the same"), 4)
    assert others == [first] * 3
    with office.ctx.transaction() as session:
        assert len(session.scalars(select(ChargeRun)).all()) == 1


def test_a_key_belongs_to_who_asks_and_not_to_a_name(office: Office) -> None:
    one = office.ctx.acting(Actor("Beatriz", "finance", person_id=1))
    namesake = office.ctx.acting(Actor("Beatriz", "finance", person_id=2))
    first = charging.run(one, SEPTEMBER, "k")
    assert charging.run(one, SEPTEMBER, "k") == first
    assert charging.run(namesake, SEPTEMBER, "k").run_id != first.run_id
    with pytest.raises(Conflict, match="another request"):
        charging.run(one, OCTOBER, "k")
    identities = {
        Actor("B", "finance", person_id=1).identity, Actor("B", "finance", token_id=1).identity,
        Actor("B", member_id=1).identity, Actor("1").identity,
    }  # fmt: skip
    assert len(identities) == 4


def test_usage_that_comes_late_is_told_and_shown_apart(office: Office) -> None:
    one = office.consumers[0]
    record(office, 30)
    office.clock.now = LATER
    invoice = issued(office)[0]
    line = next(x for x in invoices.one(office.finance, invoice).lines if x.kind == "usage")
    before = invoices.days(office.finance, line.id)
    assert (sum(d.units for d in before), [d.late for d in before]) == (line.quantity, [Decimal(0)])
    assert period(office).late == []

    record(office, 7, START, 500)
    record(office, 2, START + timedelta(days=3), 600)
    after = invoices.days(office.finance, line.id)
    # The issued line opens into what it was made of; what arrived since stands apart.
    assert [(d.day.day, d.units, d.late) for d in after] == [(10, 30, 7), (13, 0, 2)]
    shown = next(x for x in invoices.one(office.finance, invoice).lines if x.id == line.id)
    assert (shown.quantity, shown.late) == (30, 9)
    assert [(x.consumer, x.meter, x.units, x.invoice_id) for x in period(office).late] == [
        ("Ferries", "Forecast calls", Decimal(9), invoice)
    ]
    told = [i for i in today.today(office.finance).yours if "arrived late for September" in i.title]
    assert len(told) == 1 and "Ferries" in told[0].detail
    mine = invoices.own_days(office.acting(one), line.id)
    assert sum(d.units for d in mine) == 30
    assert of(office, "Ferries").charge == of(office, "Ferries").invoiced  # the issued one says what it said


def test_a_period_names_every_plan_a_consumer_was_on(office: Office) -> None:
    office.clock.forward(days=2)
    carrying_over.withdraw(office.manager, office.plans["Ketch"], office.plans["Skiff"])
    assert of(office, "Ferries").plans == ["Harbour Data · Ketch", "Harbour Data · Skiff"]


def test_each_of_several_fees_is_explained_by_its_own_rule(office: Office) -> None:
    priced = terms()
    priced["pricing"]["prices"].insert(1, {"kind": "fee", "amount": "3"})
    sheet = tariff_sheet.sheet(office.manager, office.product)
    ketch = next(p for p in sheet.plans if p.name == "Ketch")
    tariff_sheet.save_draft(office.manager, ketch.id, ketch.edition, priced)
    office.publish("next period")
    office.clock.now = datetime(2026, 11, 2, tzinfo=UTC)
    charging.run(office.finance, OCTOBER)
    lines = invoices.one(office.finance, period(office, OCTOBER).drafts[0]).lines
    assert [(x.amount, x.rule) for x in lines if x.kind == "fee"] == [
        (40, "€40 a month, by the day"), (3, "€3 a month, by the day"),
    ]  # fmt: skip


@pytest.mark.parametrize("start", [date(9999, 12, 1), date(9999, 12, 31), date(2026, 9, 2)])
def test_a_period_that_cannot_be_is_refused(office: Office, start: date) -> None:
    for work in (lambda: period(office, start), lambda: charging.run(office.finance, start)):
        with pytest.raises(Invalid) as refused:
            work()
        assert refused.value.where == "period"


def test_a_file_of_a_months_charges_works_them_out_once(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    done: list[date] = []
    real = charging._charges

    def counted(session: Any, period: Any) -> Any:
        done.append(period.start)
        return real(session, period)

    monkeypatch.setattr(charging, "_charges", counted)
    monkeypatch.setattr(lists, "PART", 1)  # every charge a page of its own
    web = TestClient(create_app(office.ctx, Settings()), base_url="http://127.0.0.1:8400")
    web.cookies.set("calm_console", sessions.sign_in(office.ctx, PEOPLE, "finance@test.example", PASSWORD))
    answer = web.get("/api/v1/periods/2026-09-01/charges.csv?sort=charge")
    assert [line.split(",")[0] for line in answer.text.splitlines()[1:]] == ["Ferries", "Kayaks"]
    assert done == [date(2026, 9, 1)]
