"""Billing months and what runs up in them."""

from __future__ import annotations

from datetime import UTC, date, datetime
from typing import Any

import pytest
from sqlalchemy import select
from starlette.testclient import TestClient

from calm_tariff.core.errors import Invalid, NotSignedIn
from calm_tariff.edge import lists
from calm_tariff.services.admit import carrying_over
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.services.settle.documents import issuing
from calm_tariff.services.settle.periods import charging, periods
from calm_tariff.settings import Settings
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.settle.money_documents import Invoice
from calm_tariff.web import create_app
from tests.office import PASSWORD, Office
from tests.services.months import OCTOBER, SEPTEMBER, issued, of, period, record


def test_months_are_told_from_the_first_call_to_the_running_one_with_how_far_each_is(office: Office) -> None:
    def told() -> list[tuple[date, str, int]]:
        return [(p.start, p.state, p.invoices) for p in periods.everything(office.finance)]

    assert told() == [(SEPTEMBER, "running", 0)]  # nobody called yet
    record(office, 5)
    office.clock.now = datetime(2026, 11, 20, 9, tzinfo=UTC)
    november = date(2026, 11, 1)
    assert told() == [(november, "running", 0), (OCTOBER, "ready to charge", 0), (SEPTEMBER, "ready to charge", 0)]
    charging.run(office.finance, OCTOBER)
    issued(office, SEPTEMBER)
    assert told() == [(november, "running", 0), (OCTOBER, "drafted", 2), (SEPTEMBER, "issued", 2)]
    sums = {p.start: p.total for p in periods.everything(office.finance)}
    with office.ctx.transaction() as session:
        every = session.scalars(select(Invoice.total).where(Invoice.period_start == SEPTEMBER))
        assert sums[SEPTEMBER] == sum(every)
    issuing.issue(office.finance, period(office, OCTOBER).drafts[:1])
    assert told()[1] == (OCTOBER, "drafted", 2)  # as long as one is a draft
    with pytest.raises(NotSignedIn):
        periods.everything(office.acting(office.consumers[0]))


def test_charges_are_of_whom_is_sought_in_the_order_asked_for(office: Office) -> None:
    record(office, 100)
    dearest = periods.charges(office.finance, SEPTEMBER, PageQuery(sort="charge", down=True)).rows
    assert [c.consumer for c in dearest] == ["Ferries", "Kayaks"] and dearest[0].charge > dearest[1].charge
    assert [c.consumer for c in periods.charges(office.finance, SEPTEMBER, PageQuery("kay")).rows] == ["Kayaks"]
    assert period(office).subtotal == sum(c.charge for c in dearest)


def test_a_draft_of_the_running_month_stands_beside_what_runs_up(office: Office) -> None:
    charging.run(office.finance, SEPTEMBER)
    drafted = of(office, "Ferries")
    assert (drafted.invoiced, drafted.charge, drafted.invoice_number) == (drafted.charge, drafted.charge, None)
    record(office, 1000)
    now = of(office, "Ferries")
    assert now.invoiced == drafted.invoiced and now.charge > drafted.charge
    both = period(office)
    assert both.draft_subtotal == sum((c.invoiced or 0) for c in both.charges.rows) < both.subtotal


def test_a_period_names_every_plan_a_consumer_was_on(office: Office) -> None:
    office.clock.forward(days=2)
    carrying_over.withdraw(office.manager, office.plans["Ketch"], office.plans["Skiff"])
    assert of(office, "Ferries").plans == ["Harbour Data · Ketch", "Harbour Data · Skiff"]


@pytest.mark.parametrize("start", [date(9999, 12, 1), date(9999, 12, 31), date(2026, 9, 2)])
def test_a_period_that_cannot_be_is_refused(office: Office, start: date) -> None:
    for work in (lambda: period(office, start), lambda: charging.run(office.finance, start)):
        with pytest.raises(Invalid) as refused:
            work()
        assert refused.value.where == "period"


def test_a_file_of_a_months_charges_works_them_out_once(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    done: list[date] = []
    real = periods._charges

    def counted(session: Any, ctx: Any, period: Any) -> Any:
        done.append(period.start)
        return real(session, ctx, period)

    monkeypatch.setattr(periods, "_charges", counted)
    monkeypatch.setattr(lists, "PART", 1)  # every charge a page of its own
    web = TestClient(create_app(office.ctx, Settings()), base_url="http://127.0.0.1:8400")
    web.cookies.set("calm_console", sessions.sign_in(office.ctx, PEOPLE, "finance@test.example", PASSWORD))
    answer = web.get("/api/v1/periods/2026-09-01/charges.csv?sort=charge")
    assert [line.split(",")[0] for line in answer.text.splitlines()[1:]] == ["Ferries", "Kayaks"]
    assert done == [date(2026, 9, 1)]
