"""Drafts in the order of what is out of the ordinary; held back; issued by a run."""

from __future__ import annotations

from datetime import UTC, date, datetime
from decimal import Decimal

import pytest
from sqlalchemy import func, select

from calm_tariff.core.billing.documents.adjustments import Wanted
from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound
from calm_tariff.services.base.context import provider_of
from calm_tariff.services.settle.documents import adjustments, issuing
from calm_tariff.services.settle.periods import charging, reviewing
from calm_tariff.services.settle.periods.reviewing import DraftRow
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.jobs import Job
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.settle.money_documents import ChargeRun, Invoice
from tests.office import Office
from tests.services.months import LATER, OCTOBER, SEPTEMBER, at_once, record
from tests.services.settle.documents.recorded import arrive, invoice_of, issue

IN_OCTOBER = datetime(2026, 10, 9, 12, tzinfo=UTC)


def rows(office: Office, start: date = SEPTEMBER, **wanted: object) -> list[DraftRow]:
    return reviewing.drafts(office.finance, start, PageQuery(**wanted)).rows  # type: ignore[arg-type]


def found(office: Office, start: date = SEPTEMBER) -> dict[str, list[str]]:
    return {row.consumer: row.findings for row in rows(office, start)}


def more(office: Office, many: int) -> None:
    for n in range(many):
        office.consumers.append(office.admit(f"Guest{n:02d}", "Ketch"))


def test_what_is_out_of_the_ordinary_comes_first_with_last_months_figures(office: Office) -> None:
    office.consumers.append(office.admit("Pelorus", "Skiff"))
    charging.run(office.finance, SEPTEMBER)
    assert found(office)["Ferries"] == ["the first invoice of its consumer"]
    office.clock.now = LATER
    charging.begin_issuing(office.finance, SEPTEMBER)
    with office.ctx.transaction() as session:
        (run,) = session.scalars(select(ChargeRun).where(ChargeRun.kind == "issue"))
    charging.go_on(office.ctx, run.id)
    arrive(office, 900, 0, since=IN_OCTOBER)
    with office.ctx.transaction() as session:
        session.get_one(Consumer, office.consumers[1].member.own_consumer).payment_method = None
    office.clock.now = datetime(2026, 11, 3, tzinfo=UTC)
    charging.run(office.finance, OCTOBER)
    shown = [(row.consumer, row.last_month, row.subtotal, row.findings) for row in rows(office, OCTOBER)]
    assert shown == [
        (
            "Kayaks",
            Decimal("28.00"),
            Decimal("40.00"),
            ["42% more than €28.00, the mean of the last months", "nobody has said how it is paid"],
        ),
        ("Ferries", Decimal("28.00"), Decimal("42.69"), ["52% more than €28.00, the mean of the last months"]),
        ("Pelorus", Decimal(0), Decimal(0), ["nothing is due: no invoice is issued"]),
    ]
    assert [r.consumer for r in rows(office, OCTOBER, sort="charge")] == ["Pelorus", "Kayaks", "Ferries"]
    assert [r.consumer for r in rows(office, OCTOBER, words="ayak")] == ["Kayaks"]
    with office.ctx.transaction() as session:
        provider_of(session).review_percent = 50
    charging.run(office.finance, OCTOBER)
    assert found(office, OCTOBER)["Kayaks"] == ["nobody has said how it is paid"]


def test_usage_that_came_between_two_drafts_is_said_to_be_arriving_still(office: Office) -> None:
    record(office, 20)
    charging.run(office.finance, SEPTEMBER)
    record(office, 5, tail=100)
    charging.run(office.finance, SEPTEMBER)
    assert "usage is still arriving: 5 units more since the draft before" in found(office)["Ferries"]
    charging.run(office.finance, SEPTEMBER)
    assert found(office)["Ferries"] == ["the first invoice of its consumer"]


def test_what_is_adjusted_is_said_when_it_is_drafted_anew(office: Office) -> None:
    charging.run(office.finance, SEPTEMBER)
    less = Wanted(words="A week", amount=Decimal("-40.00"), treatment="standard", reason="Ticket 17")
    adjustments.add(office.finance, invoice_of(office).summary.id, less)
    assert found(office)["Ferries"][0] == "comes to less than nothing: it cannot be issued"
    assert "adjusted by a person" in found(office)["Ferries"]


def test_one_that_is_held_back_is_issued_with_no_others(office: Office) -> None:
    charging.run(office.finance, SEPTEMBER)
    draft = invoice_of(office).summary.id
    for wrong in ("", " ", "x" * 501):
        with pytest.raises(Invalid, match="say why"):
            reviewing.hold_back(office.finance, draft, wrong)
    with pytest.raises(NotAllowed):
        reviewing.hold_back(office.manager, draft, "why")
    with pytest.raises(NotFound):
        reviewing.hold_back(office.finance, 10**9, "why")
    reviewing.hold_back(office.finance, draft, "Asked about.")
    charging.run(office.finance, SEPTEMBER)  # stays held through a run
    assert {row.consumer: row.held for row in rows(office)} == {"Ferries": "Beatriz: Asked about.", "Kayaks": ""}
    whole = reviewing.drafts(office.finance, SEPTEMBER, PageQuery())
    assert (whole.held, whole.to_issue, whole.subtotal, whole.to_issue_subtotal) == (1, 1, 56, 28)
    office.clock.now = LATER
    run = charging.begin_issuing(office.finance, SEPTEMBER)
    charging.go_on(office.ctx, run.id)
    assert (invoice_of(office).summary.state, invoice_of(office, consumer="Kayaks").summary.state) == (
        "draft",
        "issued",
    )
    with pytest.raises(Conflict, match="no draft to be issued"):
        charging.begin_issuing(office.finance, SEPTEMBER)
    with pytest.raises(Conflict, match=r"is held back by Beatriz: Asked about\."):
        issuing.issue(office.finance, [draft])
    reviewing.let_go(office.finance, draft)
    charging.go_on(office.ctx, charging.begin_issuing(office.finance, SEPTEMBER).id)
    assert invoice_of(office).summary.number == "INV-2026-00002"
    with pytest.raises(Conflict, match="is issued"):
        reviewing.hold_back(office.finance, draft, "Too late.")


def test_a_draft_that_cannot_be_issued_hinders_no_other_and_is_told(office: Office) -> None:
    charging.run(office.finance, SEPTEMBER)
    less = Wanted(words="A week", amount=Decimal("-40.00"), treatment="standard", reason="Ticket 17")
    adjustments.add(office.finance, invoice_of(office).summary.id, less)
    with pytest.raises(Conflict, match="its period runs until"):
        charging.begin_issuing(office.finance, SEPTEMBER)
    office.clock.now = LATER
    run = charging.begin_issuing(office.finance, SEPTEMBER)
    charging.go_on(office.ctx, run.id)
    done = charging.one(office.finance, run.id)
    assert (done.state, done.invoices, done.done) == ("done", 1, 2)
    ((told),) = done.refused
    assert told.consumer == "Ferries" and "less than nothing" in told.why


def test_a_run_goes_on_part_by_part_can_be_stopped_and_comes_to_the_same(
    office: Office, monkeypatch: pytest.MonkeyPatch
) -> None:
    more(office, 5)
    monkeypatch.setattr(charging, "DRAFTED_AT_ONCE", 2)
    begun = charging.begin(office.finance, SEPTEMBER, "k")
    assert charging.begin(office.finance, SEPTEMBER, "k").id == begun.id
    assert (begun.state, begun.planned, begun.done) == ("running", 7, 0)
    with office.ctx.transaction() as session:
        (job,) = session.scalars(select(Job).where(Job.kind == charging.GO_ON))
        assert (job.arguments, job.about) == ({"run": begun.id}, "charging September 2026")
    assert charging._part(office.ctx, begun.id)
    stopped = charging.stop(office.finance, begun.id)
    assert (stopped.state, stopped.done, stopped.invoices) == ("stopped", 2, 2)
    charging.go_on(office.ctx, begun.id)
    assert charging.one(office.finance, begun.id).done == 2  # until somebody goes on with it
    with pytest.raises(Conflict, match="it is stopped"):
        charging.stop(office.finance, begun.id)
    charging.resume(office.finance, begun.id)
    with pytest.raises(Conflict, match="is being charged"):
        charging.begin(office.finance, SEPTEMBER)
    at_once(office.ctx, lambda _: charging.go_on(office.ctx, begun.id), 3)  # as where a worker was taken for dead
    done = charging.one(office.finance, begun.id)
    assert (done.state, done.done, done.invoices, done.total) == ("done", 7, 7, Decimal("241.08"))
    with office.ctx.transaction() as session:
        assert session.scalar(select(func.count()).select_from(Invoice)) == 7
    with pytest.raises(Conflict, match="it is done"):
        charging.resume(office.finance, begun.id)


def test_of_two_runs_of_a_month_that_begin_at_once_one_begins(office: Office) -> None:
    def one(n: int) -> int:
        try:
            return charging.begin(office.finance, SEPTEMBER, f"k{n}").id
        except Conflict:
            return 0

    assert sorted(bool(each) for each in at_once(office.finance, one, 4)) == [False, False, False, True]


def test_issuing_that_died_between_an_invoice_and_its_count_counts_it_once(
    office: Office, monkeypatch: pytest.MonkeyPatch
) -> None:
    more(office, 5)
    charging.run(office.finance, SEPTEMBER)
    office.clock.now = LATER
    monkeypatch.setattr(charging, "ISSUED_AT_ONCE", 3)
    run = charging.begin_issuing(office.finance, SEPTEMBER)
    with office.ctx.transaction() as session:
        first, second, *_ = session.scalars(select(Invoice.id).order_by(Invoice.id))
    issuing.one(office.finance, first), issuing.one(office.finance, second)
    at_once(office.ctx, lambda _: charging.go_on(office.ctx, run.id), 3)
    done = charging.one(office.finance, run.id)
    assert (done.state, done.invoices, done.refused) == ("done", 7, [])
    with office.ctx.transaction() as session:
        numbers = sorted(session.scalars(select(Invoice.number)))
        assert done.total == sum(session.scalars(select(Invoice.total)))
    assert numbers == [f"INV-2026-{n:05d}" for n in range(1, 8)]


def test_a_month_is_drafted_by_itself_when_it_is_time_and_once(office: Office) -> None:
    charging.when_it_is_time(office.ctx)
    with office.ctx.transaction() as session:
        provider_of(session).charge_after_days = 3
    for day, runs in ((3, 0), (4, 1), (5, 1)):
        office.clock.now = datetime(2026, 10, day, 9, tzinfo=UTC)
        charging.when_it_is_time(office.ctx)
        with office.ctx.transaction() as session:
            made = session.scalars(select(ChargeRun)).all()
        assert len(made) == runs, day
    charging.go_on(office.ctx, made[0].id)
    assert made[0].started_by == "Calm Tariff" and len(rows(office)) == 2
    issue(office)
