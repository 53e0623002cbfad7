"""Recorded calls are struck out: seen before, all that was seen and no others, off the sums that are charged and still
on the record; and they count again."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from decimal import Decimal
from typing import Any

import pytest
from sqlalchemy import func, select

from calm_tariff.core import striking as rules
from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, NotSignedIn
from calm_tariff.core.periods import day_start, instant_of, month_starting, zone
from calm_tariff.services.observe import traffic
from calm_tariff.services.serve import history, receipts
from calm_tariff.services.settle import rating_cases, striking
from calm_tariff.services.settle.documents import invoices
from calm_tariff.services.settle.periods import charging
from calm_tariff.services.settle.striking import StrikePreview, StrikeView, Wanted
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import AuditEntry
from calm_tariff.store.serve import usage_queries
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.serve.usage import Call, DailyUsage, HourlyOutcomes, HourlyUsage
from tests.office import START, Office
from tests.services.months import LATER, OCTOBER, SEPTEMBER, at_once, of, period
from tests.services.serve.elsewhere.sent import row, send
from tests.services.settle.documents.recorded import arrive, invoice_of, issue

WHY = "They were our own load test."


def meant(office: Office, whose: int = 0, **more: Any) -> Wanted:
    return Wanted(filter=CallFilter(consumer_id=office.consumers[whose].member.own_consumer, **more))


def until(minutes: int) -> int:
    """The instant before which calls lie that were made in the first so many minutes."""
    return instant_of(START + timedelta(minutes=minutes))


def strike(office: Office, wanted: Wanted) -> StrikeView:
    return striking.strike_out(office.finance, wanted, WHY, striking.preview(office.finance, wanted).calls)


def units(office: Office) -> tuple[Decimal, Decimal, Decimal]:
    """What counts: by hours, by days, and by the calls that are not struck out."""
    with office.ctx.transaction() as session:
        hours = session.scalar(select(func.sum(HourlyUsage.units))) or Decimal(0)
        days = session.scalar(select(func.sum(DailyUsage.units))) or Decimal(0)
        calls = session.scalars(select(Call).where(Call.strike_id.is_(None)))
        return hours, days, sum((Decimal(u) for call in calls for u in call.units.values()), Decimal(0))


def test_calls_are_seen_then_struck_out_and_no_longer_count(office: Office) -> None:
    arrive(office, 60, 0)
    before = of(office, "Ferries").charge
    wanted = meant(office, until_us=until(100))
    shown: StrikePreview = striking.preview(office.finance, wanted)
    assert (shown.consumer, shown.calls) == ("Ferries", 50)
    (month,) = shown.months
    assert (month.month, month.calls, month.number) == (SEPTEMBER, 50, "")
    assert [(each.meter, each.units) for each in month.units] == [("Forecast calls", 50)]
    assert units(office) == (60, 60, 60)
    made = striking.strike_out(office.finance, wanted, f" {WHY} ", shown.calls)
    assert (made.calls, made.by, made.why, made.undone_at) == (50, "Beatriz", WHY, None)
    assert units(office) == (10, 10, 10)
    after = of(office, "Ferries").charge
    assert before > after
    assert month.before - month.after == before - after
    with office.ctx.transaction() as session:
        assert session.scalar(select(func.count()).select_from(Call)) == 60
        # That they were made is not undone: traffic shows them.
        assert session.scalar(select(func.sum(HourlyOutcomes.calls))) == 60
    log = traffic.log(office.manager, wanted.filter)
    assert (log.total, {line.struck for line in log.rows}) == (50, {True})


def test_a_struck_call_says_so_by_whom_and_why_and_to_its_consumer_without(office: Office) -> None:
    arrive(office, 2, 0)
    strike(office, meant(office, until_us=until(1)))
    first, second = (traffic.log(office.manager, CallFilter()).rows)[::-1]
    rungs = [rung for rung in receipts.receipt(office.manager, first.call_id).rungs if rung.kind == "struck"]
    assert [(rung.title, rung.note) for rung in rungs] == [
        ("Struck out: it no longer counts", f"by Beatriz, 10 September 2026: {WHY}")
    ]
    assert all(rung.kind != "struck" for rung in receipts.receipt(office.manager, second.call_id).rungs)
    shown = receipts.own_receipt(office.acting(office.consumers[0]), first.call_id).rungs
    (own,) = [rung for rung in shown if rung.kind == "struck"]
    assert (own.title, own.note, own.link) == ("Struck out", "it no longer counts", None)


def test_they_count_again_when_it_is_undone(office: Office) -> None:
    arrive(office, 60, 0)
    before = of(office, "Ferries").charge
    made = strike(office, meant(office, until_us=until(100)))
    other = strike(office, meant(office, since_us=until(100), until_us=until(110)))
    undone = striking.undo(office.finance, made.id, "It was theirs after all.")
    assert (undone.undone_by, undone.undone_why) == ("Beatriz", "It was theirs after all.")
    assert units(office) == (55, 55, 55)
    striking.undo(office.finance, other.id, "So were these.")
    assert units(office) == (60, 60, 60)
    assert of(office, "Ferries").charge == before
    with pytest.raises(Conflict, match="count again already"):
        striking.undo(office.finance, made.id, "Twice.")
    assert [each.id for each in striking.listed(office.finance, PageQuery()).rows] == [other.id, made.id]


def test_those_that_are_not_kept_any_more_cannot_count_again(office: Office) -> None:
    arrive(office, 3, 0)
    made = strike(office, meant(office))
    with office.ctx.transaction() as session:
        session.delete(session.scalars(select(Call)).all()[0])
    with pytest.raises(Conflict, match="not kept any more"):
        striking.undo(office.finance, made.id, "Theirs.")
    assert units(office) == (0, 0, 0)


def test_of_an_issued_month_the_difference_is_proposed_as_a_credit_note(office: Office) -> None:
    arrive(office, 500, 0)
    office.clock.now = LATER
    issued = issue(office)
    wanted = meant(office, until_us=until(600))
    (month,) = striking.preview(office.finance, wanted).months
    assert month.number == issued.summary.number
    striking.strike_out(office.finance, wanted, WHY, month.calls)
    office.clock.now = datetime(2026, 11, 3, 9, tzinfo=UTC)
    charging.run(office.finance, OCTOBER)
    assert invoice_of(office).less == month.before - month.after > 0
    assert [line.amount for line in invoices.one(office.finance, issued.summary.id).lines] == [
        line.amount for line in issued.lines
    ]
    assert period(office).late[0].units == -300


def test_what_was_not_shown_is_not_struck_out(office: Office) -> None:
    arrive(office, 10, 0)
    wanted = meant(office)
    shown = striking.preview(office.finance, wanted).calls
    arrive(office, 1, 100)
    with pytest.raises(Conflict, match="10 calls shown, and 11 meant by now"):
        striking.strike_out(office.finance, wanted, WHY, shown)
    assert units(office) == (11, 11, 11)
    strike(office, wanted)
    with pytest.raises(Conflict, match="no call is meant that counts"):
        strike(office, wanted)


def test_refused_calls_and_those_of_others_are_left_alone(office: Office) -> None:
    arrive(office, 3, 0)
    arrive(office, 3, 100, whose=1)
    refused = office.call(office.consumers[0], START, 500, verdict="refused", status=429, units={})
    history.take_in(office.ctx, [refused])
    assert strike(office, meant(office)).calls == 3
    with office.ctx.transaction() as session:
        left = session.scalars(select(Call).where(Call.strike_id.is_(None))).all()
    owners = sorted((call.consumer_id, call.verdict) for call in left)
    ferries, kayaks = (each.member.own_consumer for each in office.consumers)
    assert owners == sorted([(ferries, "refused"), *[(kayaks, "served")] * 3])


def test_calls_are_named_by_what_their_source_calls_them(office: Office) -> None:
    send(office, [row(office, n) for n in range(4)])
    arrive(office, 1, 0)
    ours = traffic.log(office.manager, CallFilter()).rows
    own_id = next(line.call_id for line in ours if not line.elsewhere)
    named = Wanted(filter=CallFilter(), source="edge", ids=("1", "3", "1"))
    assert striking.preview(office.finance, named).calls == 2
    made = striking.strike_out(office.finance, named, WHY, 2)
    strike(office, Wanted(filter=CallFilter(), source="test", ids=(own_id,)))
    assert units(office) == (2, 2, 2)
    striking.undo(office.finance, made.id, "No.")
    assert units(office) == (4, 4, 4)
    # They are known still: brought in again, they count no second time.
    strike(office, named)
    assert send(office, [row(office, 1)]).known == 1
    assert units(office) == (2, 2, 2)


@pytest.mark.parametrize(
    ("wanted", "error", "where"),
    [
        (Wanted(filter=CallFilter()), Invalid, "consumer"),
        (Wanted(filter=CallFilter(), ids=("1",)), Invalid, "source"),
        (Wanted(filter=CallFilter(), source="edge", ids=("nothing",)), NotFound, "ids"),
        (Wanted(filter=CallFilter(), source="edge", ids=("",)), Invalid, "ids"),
        (Wanted(filter=CallFilter(), source="edge", ids=tuple(map(str, range(1001)))), Invalid, "ids"),
        (Wanted(filter=CallFilter(consumer_id=10**6)), NotFound, str(10**6)),
    ],
)
def test_what_is_wrong_with_a_choice_is_named(
    office: Office, wanted: Wanted, error: type[Exception], where: str
) -> None:
    with pytest.raises(error) as refused:
        striking.preview(office.finance, wanted)
    assert getattr(refused.value, "where", "") == where


def test_calls_of_several_consumers_are_not_named_together(office: Office) -> None:
    arrive(office, 1, 0)
    arrive(office, 1, 1, whose=1)
    ids = tuple(line.call_id for line in traffic.log(office.manager, CallFilter()).rows)
    with pytest.raises(Invalid, match="of several consumers"):
        striking.preview(office.finance, Wanted(filter=CallFilter(), source="test", ids=ids))


def test_no_more_than_so_many_at_once(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(rules, "MOST_CALLS", 3)
    monkeypatch.setattr(striking, "MOST_CALLS", 3)
    arrive(office, 5, 0)
    with pytest.raises(Conflict, match="choose a shorter stretch"):
        striking.preview(office.finance, meant(office))
    assert strike(office, meant(office, until_us=until(6))).calls == 3


def test_finance_alone_strikes_out_and_says_why(office: Office) -> None:
    arrive(office, 1, 0)
    for ctx, refusal in ((office.manager, NotAllowed), (office.acting(office.consumers[0]), NotSignedIn)):
        with pytest.raises(refusal):
            striking.strike_out(ctx, meant(office), WHY, 1)
        with pytest.raises(refusal):
            striking.undo(ctx, 1, WHY)
    with pytest.raises(NotSignedIn):
        striking.preview(office.acting(office.consumers[0]), meant(office))
    with pytest.raises(Invalid, match="say why"):
        striking.strike_out(office.finance, meant(office), "  ", 1)
    with pytest.raises(NotFound):
        striking.undo(office.finance, 99, WHY)


def test_several_at_once_strike_each_call_out_once(office: Office) -> None:
    arrive(office, 30, 0)
    wanted = meant(office)

    def one(_: int) -> bool:
        try:
            striking.strike_out(office.finance, wanted, WHY, 30)
        except Conflict:
            return False
        return True

    assert sorted(at_once(office.finance, one, 4)) == [False, False, False, True]
    assert units(office) == (0, 0, 0)


def test_the_same_key_strikes_once(office: Office) -> None:
    arrive(office, 1, 0)
    first = striking.strike_out(office.finance, meant(office), WHY, 1, "k")
    assert striking.strike_out(office.finance, meant(office), WHY, 1, "k") == first
    with office.ctx.transaction() as session:
        struck = session.scalars(select(AuditEntry.subject).where(AuditEntry.subject_kind == "strike")).all()
    assert struck == ["1 call of Ferries"]


def test_a_stretch_that_ends_within_an_hour_is_summed_without_them(office: Office) -> None:
    """Where sums of hours do not reach, calls are read one by one."""
    arrive(office, 20, 0)
    strike(office, meant(office, until_us=until(10)))
    with office.ctx.transaction() as session:
        begin = day_start(START.date(), zone("Europe/Lisbon"))
        counted = usage_queries.units_by_stay(session, begin, until(16))
        owner = office.consumers[0].member.own_consumer
        (case,) = rating_cases.cases(session, month_starting(SEPTEMBER), [owner])
    assert counted == {(office.consumers[0].stay, office.meter): Decimal(3)}
    assert case.case.segments[0].usage == {"forecast_calls": Decimal(15)}
