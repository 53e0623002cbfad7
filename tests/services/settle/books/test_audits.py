"""Looking through the books by a job: what it keeps, that it can be left, stopped, killed and begun again."""

from __future__ import annotations

from datetime import timedelta
from decimal import Decimal

import pytest
from sqlalchemy import select, text

from calm_tariff.core.errors import Conflict, NotAllowed, NotFound, NotSignedIn
from calm_tariff.core.periods import day_start, instant_of, zone
from calm_tariff.services.base.context import provider_of
from calm_tariff.services.observe import today
from calm_tariff.services.serve import history
from calm_tariff.services.settle import forgetting
from calm_tariff.services.settle.books import audits, showing
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.base.jobs import Job
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.serve.usage import Call
from calm_tariff.store.settle.books import BookDifference, BooksAudit, BookSum
from tests.office import START, Office
from tests.services.months import LATER, OCTOBER, SEPTEMBER, issued, record
from tests.services.settle.accounts.owing import at, whose
from tests.services.settle.documents.recorded import arrive


@pytest.fixture
def charged(office: Office) -> Office:
    """September charged and issued, of which thirty calls of Ferries' are."""
    record(office, 30)
    office.clock.now = LATER
    issued(office)
    return office


def looked(office: Office) -> showing.BooksView:
    assert audits.go_on(office.ctx, audits.begin(office.finance))
    return showing.books(office.finance)


def test_what_was_found_is_kept_and_shown(charged: Office) -> None:
    assert showing.books(charged.finance) == showing.BooksView(
        last=None, going=None, proofs=[], periods=[], differences=0, currency="EUR"
    )
    shown = looked(charged)
    assert shown.last is not None and (shown.last.state, shown.last.done) == ("done", 9)
    assert [proof.check for proof in shown.proofs] == [
        *("calls", "units", "charges", "documents", "numbers", "accounts", "money", "journal", "handoff")
    ]
    assert all(proof.differences == 0 for proof in shown.proofs) and shown.differences == 0
    (september,) = [each for each in shown.periods if each.start == SEPTEMBER]
    assert (september.recorded, september.counted, september.differ, september.sums) == (30, 30, 0, 1)
    where = zone("Europe/Lisbon")
    assert (september.since_us, september.until_us) == (day_start(SEPTEMBER, where), day_start(OCTOBER, where))
    (row,) = showing.units(charged.finance, SEPTEMBER, PageQuery()).rows
    assert (row.consumer, row.recorded, row.charged, row.late, row.agrees) == ("Ferries", 30, 30, 0, True)
    assert showing.differences(charged.finance, PageQuery()).rows == []


def test_units_are_where_they_are_until_they_are_charged(charged: Office) -> None:
    arrive(charged, 4, 5000)
    arrive(charged, 6, 6000, START + timedelta(days=22))
    looked(charged)
    (september,) = showing.units(charged.finance, SEPTEMBER, PageQuery()).rows
    (october,) = showing.units(charged.finance, OCTOBER, PageQuery()).rows
    assert (september.recorded, september.charged, september.late) == (34, 30, 4)
    assert (october.recorded, october.running, october.charged) == (6, 6, 0)
    charged.clock.forward(days=31)
    charging.run(charged.finance, OCTOBER)
    looked(charged)
    (september,) = showing.units(charged.finance, SEPTEMBER, PageQuery()).rows
    assert (september.charged, september.late) == (30, 4)  # a draft charges nothing
    issued(charged, OCTOBER)
    looked(charged)
    (september,) = showing.units(charged.finance, SEPTEMBER, PageQuery()).rows
    (october,) = showing.units(charged.finance, OCTOBER, PageQuery()).rows
    assert (september.charged, september.late) == (34, 0)
    assert (october.running, october.charged) == (0, 6)


def test_a_difference_is_shown_until_the_books_agree_again(charged: Office) -> None:
    change = "UPDATE hourly_usage SET units = units + {} ORDER BY hour_us LIMIT 1"
    with charged.ctx.transaction() as session:
        session.execute(text(change.format(1)))
    shown = looked(charged)
    assert shown.differences == 1
    (found,) = showing.differences(charged.finance, PageQuery()).rows
    assert (found.check, found.what) == ("units", "units in September 2026 (UTC)")
    assert found.whose.startswith("Ferries, ") and [s.amount for s in found.sums] == [30, 31, 30]
    (stretch,) = found.came_of
    assert stretch.since_us == instant_of(START)
    assert [(s.table, s.amount) for s in stretch.sums] == [("calls", Decimal(30)), ("hours", Decimal(31))]
    assert today.counts(charged.finance).differing == 1
    assert "Two sums of the books differ" in [i.title for i in today.today(charged.finance).yours]
    assert "Two sums of the books differ" in [i.title for i in today.today(charged.manager).others]
    with charged.ctx.transaction() as session:
        session.execute(text(change.format(-1)))
    assert looked(charged).differences == 0
    assert showing.differences(charged.finance, PageQuery()).rows == []
    assert today.counts(charged.finance).differing == 0


def test_one_at_a_time_which_can_be_stopped(charged: Office) -> None:
    first = audits.begin(charged.finance)
    with pytest.raises(Conflict, match="being looked through already"):
        audits.begin(charged.finance)
    with charged.ctx.transaction() as session:
        assert session.scalars(select(Job.arguments).where(Job.kind == audits.LOOK_THROUGH)).all() == [{"audit": first}]
    going = showing.books(charged.finance).going
    assert going is not None and (going.id, going.done, going.planned) == (first, 0, 9)
    audits.stop(charged.finance, first)
    assert not audits.go_on(charged.ctx, first)
    assert showing.books(charged.finance).last is None
    with pytest.raises(Conflict, match="stopped"):
        audits.stop(charged.finance, first)
    with pytest.raises(NotFound):
        audits.stop(charged.finance, 999)
    assert looked(charged).last is not None


def test_one_whose_worker_died_is_gone_on_with_and_kept_once(charged: Office) -> None:
    begun = audits.begin(charged.finance)
    assert audits.go_on(charged.ctx, begun)
    with charged.ctx.transaction() as session:
        session.execute(text("UPDATE books_audit SET state = 'running', ended_at = NULL, done = 3"))
    audits.daily(charged.ctx)
    with charged.ctx.transaction() as session:
        assert session.execute(select(BooksAudit.id, BooksAudit.state, BooksAudit.done)).all() == [(begun, "done", 9)]
        assert len(session.scalars(select(BookSum.subscription_id)).all()) == 1
    assert not audits.go_on(charged.ctx, begun)  # a job that is done twice


def test_every_day_they_are_looked_through_by_the_schedule(charged: Office) -> None:
    audits.daily(charged.ctx)
    charged.clock.forward(days=1)
    audits.daily(charged.ctx)
    last = showing.books(charged.finance).last
    assert last is not None and last.asked_by == "the schedule" and last.at == charged.clock.now
    charged.clock.forward(days=100)
    audits.forget(charged.ctx)
    with charged.ctx.transaction() as session:
        assert session.scalars(select(BooksAudit.id)).all() == [last.id]
        assert session.scalars(select(BookDifference.id)).all() == []


def test_months_whose_calls_are_no_longer_kept_are_proved_by_their_sums(charged: Office) -> None:
    with charged.ctx.transaction() as session:
        provider_of(session).call_months = 3
    at(charged, 2027, 3, 2)
    assert forgetting.forget_calls(charged.ctx) == 30
    shown = looked(charged)
    assert shown.differences == 0
    assert SEPTEMBER not in [each.start for each in shown.periods]
    (row,) = showing.units(charged.finance, SEPTEMBER, PageQuery()).rows
    assert (row.recorded, row.charged) == (None, 30)
    with charged.ctx.transaction() as session:
        session.execute(text("UPDATE daily_usage SET units = units + 1 LIMIT 1"))
    assert looked(charged).differences == 1


def test_calls_are_counted_or_not_for_a_reason(charged: Office) -> None:
    one = charged.consumers[0]
    nobody = dict.fromkeys(("subscription_id", "stay_id", "revision_id"))
    more = [
        charged.call(one, START, 7001, verdict="refused", refused_by="Rate", status=429, units={}),
        charged.call(one, START, 7002, status=503, units={}),
        charged.call(one, START, 7003, environment="sandbox", units={}),
        charged.call(one, START, 7004, units={}),
        charged.call(one, START, 7005, verdict="refused", status=401, units={}, consumer_id=None, **nobody),
    ]

    history.take_in(charged.ctx, more)
    shown = looked(charged)
    assert shown.differences == 0
    (of,) = [each for each in shown.periods if each.start == SEPTEMBER]
    assert (of.recorded, of.counted, of.refused, of.failed, of.sandbox, of.uncovered) == (35, 30, 2, 1, 1, 1)


def test_a_call_that_two_meters_count_is_one_call(charged: Office) -> None:
    with charged.ctx.transaction() as session:
        session.execute(text("UPDATE `call` SET units = JSON_SET(units, '$.\"77\"', '2.5')"))
        assert session.scalars(select(Call.call_id)).first()
    found = audits.look_through(charged.finance)
    assert [c["recorded"] for c in found.calls if c["recorded"]] == [30]
    assert {(d.check, d.meter_id, d.sums[0][1]) for d in found.differences} == {
        ("units", 77, Decimal(75)),
        ("units", 77, Decimal(30)),
        ("charges", 77, Decimal(75)),
    }


def test_who_looks_through_them(charged: Office) -> None:
    with pytest.raises(NotAllowed):
        audits.begin(charged.manager)
    member = charged.acting(charged.consumers[0])
    for read in (
        lambda: showing.books(member),
        lambda: showing.differences(member, PageQuery()),
        lambda: showing.units(member, SEPTEMBER, PageQuery()),
        lambda: audits.look_through(member),
    ):
        with pytest.raises((NotAllowed, NotSignedIn)):
            read()
    assert whose(charged)
