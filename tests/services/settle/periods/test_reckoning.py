"""A month that is looked at is not worked out anew each time: it is reckoned every few minutes, and says when."""

from __future__ import annotations

from datetime import date, timedelta
from decimal import Decimal

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Invalid
from calm_tariff.services.base import jobs
from calm_tariff.services.base.context import Context
from calm_tariff.services.observe import merging
from calm_tariff.services.serve.elsewhere.going_on import RECKON_MONTHS
from calm_tariff.services.settle.documents import credit_notes, late_usage
from calm_tariff.services.settle.periods import charging, periods, reckoning
from calm_tariff.store.base.jobs import Job
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.settle.reckoned_months import ReckonedMonth
from tests.office import Office
from tests.services.months import LATER, OCTOBER, SEPTEMBER, issued, period, record
from tests.services.queries import asked
from tests.services.settle.documents.recorded import arrive, invoice_of, lose


def charges(office: Office, start: date = SEPTEMBER) -> dict[str, Decimal]:
    return {each.consumer: each.charge for each in period(office, start).charges.rows}


def months(office: Office) -> list[date]:
    with office.ctx.transaction() as session:
        return list(session.scalars(select(ReckonedMonth.period_start).order_by(ReckonedMonth.period_start)))


def test_what_is_kept_is_what_is_worked_out(office: Office) -> None:
    record(office, 60)
    live = charges(office)
    assert live["Ferries"] > 0 and period(office).reckoned_at == office.clock.now
    reckoning.reckon(office.ctx, SEPTEMBER)
    assert charges(office) == live
    assert period(office).subtotal == sum(live.values())


def test_it_says_of_when_it_is_and_works_nothing_out(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    record(office, 60)
    reckoning.reckon(office.ctx, SEPTEMBER)
    then, before = office.clock.now, charges(office)
    office.clock.forward(minutes=4)
    record(office, 50, tail=1000)
    with monkeypatch.context() as unable:
        unable.setattr(periods, "rate", None)
        assert charges(office) == before and period(office).reckoned_at == then
        (row,) = periods.charges(office.finance, SEPTEMBER, PageQuery("ferries")).rows
        assert row.charge == before["Ferries"]
    reckoning.reckon(office.ctx, SEPTEMBER)
    assert charges(office)["Ferries"] > before["Ferries"]
    assert period(office).reckoned_at == office.clock.now


def test_who_came_since_is_worked_out_alone(office: Office) -> None:
    reckoning.reckon(office.ctx, SEPTEMBER)
    with asked(office.ctx) as few:
        known = charges(office)
    office.admit("Moules", "Ketch")
    assert charges(office) == {**known, "Moules": charges(office)["Moules"]} and charges(office)["Moules"] > 0
    reckoning.reckon(office.ctx, SEPTEMBER)
    for name in ("Nets", "Oars", "Pots"):
        office.admit(name, "Skiff")
    reckoning.reckon(office.ctx, SEPTEMBER)
    with asked(office.ctx) as many:
        assert len(charges(office)) == 6
    assert len(many) == len(few)


def test_a_draft_of_the_running_month_keeps_its_own_figure_beside(office: Office) -> None:
    record(office, 60)
    charging.run(office.finance, SEPTEMBER)
    record(office, 50, tail=1000)
    reckoning.reckon(office.ctx, SEPTEMBER)
    ferries = next(each for each in period(office).charges.rows if each.consumer == "Ferries")
    assert ferries.invoiced is not None and ferries.invoice_state == "draft"
    assert ferries.charge > ferries.invoiced


def test_the_running_month_and_the_last_until_it_is_drafted(office: Office) -> None:
    record(office, 60)
    office.clock.now = LATER
    reckoning.look(office.ctx)
    assert months(office) == [SEPTEMBER, OCTOBER]
    issued(office)
    assert months(office) == [], "what is issued is on no invoice no more"
    reckoning.look(office.ctx)
    with office.ctx.transaction() as session:
        assert session.get_one(ReckonedMonth, SEPTEMBER).charges == {}
        assert len(session.get_one(ReckonedMonth, OCTOBER).charges) == 2


def test_what_arrived_late_is_kept_until_something_is_issued_credited_or_struck_out(
    office: Office, monkeypatch: pytest.MonkeyPatch
) -> None:
    record(office, 400)
    office.clock.now = LATER
    issued(office)
    arrive(office, 9, 5000)
    live = period(office).late
    assert [(each.consumer, each.meter, each.units) for each in live] == [("Ferries", "Forecast calls", 9)]
    reckoning.look(office.ctx)
    with monkeypatch.context() as unable:
        unable.setattr(late_usage, "differing", None)
        assert period(office).late == live
        with office.ctx.transaction() as session:
            assert reckoning.months_with_late(session, SEPTEMBER) == [(SEPTEMBER, live)]
    lose(office, 150)
    assert [each.units for each in period(office).late] == [-141]
    reckoning.look(office.ctx)
    proposed = invoice_of(office).proposed
    assert proposed
    credit_notes.issue_proposed(office.finance, invoice_of(office).summary.id, "They were tests.")
    assert period(office).late == []
    assert months(office) == []


def test_what_is_reckoned_while_something_is_issued_is_reckoned_once_more(office: Office) -> None:
    record(office, 60)
    office.clock.now = LATER
    jobs.schedule(office.ctx, [RECKON_MONTHS])
    under_way = jobs.claim(office.ctx, {RECKON_MONTHS: jobs.LEASE})
    assert under_way is not None
    issued(office)
    jobs.again(office.ctx, under_way, office.ctx.now + timedelta(minutes=5))
    assert jobs.claim(office.ctx, {RECKON_MONTHS: jobs.LEASE}) is not None


def test_who_is_merged_into_another_is_charged_nothing_more(office: Office) -> None:
    record(office, 60)
    reckoning.reckon(office.ctx, SEPTEMBER)
    ferries, kayaks = (office.acting(one).actor.consumer_id for one in office.consumers[:2])
    both = charges(office)
    assert ferries and kayaks and both["Kayaks"] > 0
    merging.merge(office.manager, kayaks, ferries, "Kayaks")
    assert months(office) == [] and charges(office)["Ferries"] == sum(both.values())


def test_somebody_may_ask_for_it_and_twice_is_once(office: Office) -> None:
    for ctx in (office.finance, office.manager):
        reckoning.ask(ctx, SEPTEMBER)
    with office.ctx.transaction() as session:
        (job,) = session.scalars(select(Job).where(Job.kind == reckoning.RECKON))
        assert (job.arguments, job.about) == ({"month": "2026-09-01"}, "September 2026")
    with pytest.raises(Invalid, match="first of a month"):
        reckoning.ask(office.finance, SEPTEMBER + timedelta(days=1))


def test_where_nobody_is_there_yet_there_is_nothing_to_reckon(ctx: Context) -> None:
    reckoning.look(ctx)
    with ctx.transaction() as session:
        assert session.scalars(select(ReckonedMonth)).all() == []
