"""Files of another gateway's calls: seen before anything is recorded, recorded once whatever dies when, and charged
late where their month is."""

from __future__ import annotations

import io
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from pathlib import Path

import pytest
from sqlalchemy import delete, func, select

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.outside_calls import Stage
from calm_tariff.formats import outside_calls
from calm_tariff.formats.values import read
from calm_tariff.services.admit import subscriptions
from calm_tariff.services.base import jobs
from calm_tariff.services.serve.elsewhere import checking, files, going_on, recording
from calm_tariff.services.serve.elsewhere.files import UsageFileView
from calm_tariff.services.settle import usage_consequences
from calm_tariff.services.settle.documents import invoices
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.serve import call_writer
from calm_tariff.store.serve.outside_usage import UsageFile, UsageFilePart, UsageFileRow
from tests.office import START, Office, terms
from tests.services.months import LATER, OCTOBER, SEPTEMBER, issued, period
from tests.services.serve.elsewhere.sent import bring_in, done, recorded, row, send, sums, take, text


def told(view: UsageFileView) -> tuple[Stage, dict[str, int]]:
    names = ("rows", "usable", "known", "unusable", "recorded", "differing")
    return view.stage, {name: count for name in names if (count := getattr(view, name))}


@pytest.fixture
def in_parts(monkeypatch: pytest.MonkeyPatch) -> None:
    """Files in parts of three or four rows."""
    whole = outside_calls.parts
    monkeypatch.setattr(outside_calls, "parts", lambda file, source="", size=500: whole(file, source, size))


def test_a_file_is_seen_before_anything_is_recorded(office: Office, in_parts: None) -> None:
    rows = [row(office, n) for n in range(20)]
    rows[4]["status"] = "zero"
    rows[5]["id"] = "3"
    send(office, [row(office, 9)])
    taken = take(office, rows)
    assert told(taken) == ("checked", {"rows": 20, "usable": 17, "known": 2, "unusable": 1})
    assert taken.parts > 3
    assert sums(office) == (1, 1)
    (month,) = usage_consequences.months(office.finance, taken.id)
    assert (month.consumer, month.month, month.calls, month.number) == ("Ferries", SEPTEMBER, 17, "")
    assert [(each.meter, each.units) for each in month.units] == [("Forecast calls", 17)]
    (unusable,) = files.unusable(office.finance, taken.id, PageQuery()).rows
    assert (unusable.line, unusable.why.split(":")[0]) == (6, "status")
    assert "zero" in unusable.text
    with pytest.raises(Conflict, match="one row of it cannot be used: agree to leave them out"):
        files.record(office.finance, taken.id, leaving_out=False)
    files.record(office.finance, taken.id, leaving_out=True)
    done(office.ctx, taken.id)
    came = files.one(office.finance, taken.id)
    assert told(came) == ("done", {"rows": 20, "usable": 17, "known": 2, "unusable": 1, "recorded": 17, "differing": 1})
    assert sums(office) == (18, 18)
    with office.ctx.transaction() as session:
        assert session.scalar(select(func.count()).select_from(UsageFilePart)) == 0


def test_what_is_loaded_is_what_one_by_one_would_be_recorded(office: Office, in_parts: None) -> None:
    """Parts of which nothing is known go as files of rows, batches as statements: both must come to the same."""
    odd = [
        row(office, 1, path="", operation="GET /tides/v1/stations/a\\b%20c"),
        row(office, 2, id="tab?'\"\\x", bytes_in="7"),
        row(office, 3, verdict="refused", status="429"),
        row(office, 4, status="404"),
        row(office, 5, source="größe"),
    ]
    bring_in(office, odd)
    batch = send(office, [{**each, "source": f"{each['source']} 2"} for each in odd])
    assert batch.recorded == 5
    kept = {c.name for c in call_writer.Call.__table__.columns} - {"call_id", "source", "usage_file_id"}
    for each in odd:
        loaded, stated = (recorded(office, each["id"], each["source"] + tail) for tail in ("", " 2"))
        assert loaded is not None
        assert stated is not None
        assert {n: getattr(loaded, n) for n in kept} == {n: getattr(stated, n) for n in kept}
    assert sums(office)[0] == 10


def test_a_file_brought_in_again_adds_nothing(office: Office, in_parts: None) -> None:
    rows = [row(office, n) for n in range(12)]
    bring_in(office, rows)
    again = bring_in(office, [*rows, row(office, 12)])
    assert told(again) == ("done", {"rows": 13, "usable": 1, "known": 12, "recorded": 1})
    assert sums(office) == (13, 13)


def test_what_others_record_between_check_and_recording_is_known(office: Office, in_parts: None) -> None:
    rows = [row(office, n) for n in range(12)]
    taken = take(office, rows)
    send(office, rows[3:5])
    files.record(office.finance, taken.id, leaving_out=False)
    done(office.ctx, taken.id)
    assert told(files.one(office.finance, taken.id))[1] == {"rows": 12, "usable": 12, "known": 2, "recorded": 10}
    assert sums(office) == (12, 12)


def test_a_part_is_made_ready_while_what_it_is_placed_by_is_found_outdated(
    office: Office, in_parts: None, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    taken = take(office, [row(office, n) for n in range(3)])
    with office.ctx.transaction() as session:
        layout = read(going_on.Layout, session.get_one(UsageFile, taken.id).layout)
    going = going_on._Going(office.ctx, taken.id, layout, tmp_path)
    unpacked = going_on.parts.unpacked

    def meanwhile(part: UsageFilePart) -> object:
        going.places = None  # as the thread does that writes the part before
        return unpacked(part)

    monkeypatch.setattr(going_on.parts, "unpacked", meanwhile)
    made = going.made_ready(0)
    assert made is not None and made.unusable == []


def test_two_files_with_the_same_calls_side_by_side_record_them_once(
    office: Office, in_parts: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(going_on, "PARTS", 1)
    rows = [row(office, n) for n in range(12)]
    one, other = take(office, rows), take(office, rows)
    for each in (one, other):
        files.record(office.finance, each.id, leaving_out=False)
    going = [one.id, other.id]
    while going:  # part by part, in turn
        going = [each for each in going if going_on.go_on(office.ctx, each)]
    ends = [files.one(office.finance, each.id) for each in (one, other)]
    assert [each.stage for each in ends] == ["done", "done"]
    assert sum(each.recorded for each in ends) == sum(each.known for each in ends) == 12
    assert sums(office) == (12, 12)


@pytest.mark.parametrize("dies_at", range(1, 30, 2))
def test_whatever_dies_when_each_call_is_recorded_once(
    office: Office, in_parts: None, monkeypatch: pytest.MonkeyPatch, dies_at: int
) -> None:
    """A worker that dies at any statement of the recording leaves what another goes on with to the same end."""
    rows = [row(office, n) for n in range(9)]
    send(office, [row(office, 4)])
    taken = take(office, rows)
    files.record(office.finance, taken.id, leaving_out=False)
    left = [dies_at]
    real = recording.turn, going_on._Going._keep, call_writer.add

    def dying(what):
        def done_or_dead(*args, **kwargs):
            found = what(*args, **kwargs)
            left[0] -= 1
            if left[0] == 0:
                raise RuntimeError("killed")
            return found

        return done_or_dead

    monkeypatch.setattr(recording, "turn", dying(real[0]))
    monkeypatch.setattr(going_on._Going, "_keep", dying(real[1]))
    monkeypatch.setattr(call_writer, "add", dying(real[2]))
    try:
        done(office.ctx, taken.id)
    except RuntimeError:
        done(office.ctx, taken.id)
    assert told(files.one(office.finance, taken.id)) == (
        "done",
        {"rows": 9, "usable": 8, "known": 1, "recorded": 8},
    )
    assert sums(office) == (9, 9)


def test_it_can_be_stopped_and_gone_on_with(office: Office, in_parts: None, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(going_on, "PARTS", 2)
    taken = take(office, [row(office, n) for n in range(20)])
    files.record(office.finance, taken.id, leaving_out=False)
    assert going_on.go_on(office.ctx, taken.id) == office.ctx.now
    stopped = files.stop(office.finance, taken.id)
    assert (stopped.stage, stopped.done) == ("stopped", 2)
    assert 0 < stopped.recorded < 20
    done(office.ctx, taken.id)
    assert sums(office) == (stopped.recorded, stopped.recorded)
    with pytest.raises(Conflict, match="may be yet"):
        files.drop(office.finance, taken.id)
    files.record(office.finance, taken.id, leaving_out=False)
    done(office.ctx, taken.id)
    assert told(files.one(office.finance, taken.id)) == ("done", {"rows": 20, "usable": 20, "recorded": 20})
    with pytest.raises(Conflict):
        files.record(office.finance, taken.id, leaving_out=False)


def test_what_cannot_be_placed_any_more_is_told_and_not_lost(office: Office, in_parts: None) -> None:
    rows = [row(office, n) for n in range(8)]
    taken = take(office, rows)
    office.change_product(operations=[office.operations["GET /stations"]])
    files.record(office.finance, taken.id, leaving_out=False)
    done(office.ctx, taken.id)
    assert told(files.one(office.finance, taken.id)) == ("done", {"rows": 8, "usable": 8, "unusable": 8})
    assert "no subscription" in files.unusable(office.finance, taken.id, PageQuery()).rows[0].why


def test_terms_that_change_while_a_part_is_made_ready_are_seen(
    office: Office, in_parts: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    taken = take(office, [row(office, n) for n in range(8)])
    files.record(office.finance, taken.id, leaving_out=False)
    real, changed = going_on._Going.made_ready, []

    def made_ready(going, nth):
        made = real(going, nth)
        if not changed:
            changed.append(True)
            office.draft("Ketch", terms(units=99))
            office.publish("keep")
        return made

    monkeypatch.setattr(going_on._Going, "made_ready", made_ready)
    done(office.ctx, taken.id)
    assert told(files.one(office.finance, taken.id)) == ("done", {"rows": 8, "usable": 8, "recorded": 8})
    assert sums(office) == (8, 8)


def test_a_check_that_was_broken_off_begins_anew(
    office: Office, in_parts: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    rows = [row(office, n) for n in range(9)]
    rows[0]["status"] = ""
    taken = files.take(office.finance, "late.csv", io.BytesIO(text(rows)))
    real, calls = checking.parts.part, []

    def part(*args):
        calls.append(args)
        if len(calls) == 2:
            raise RuntimeError("killed")
        return real(*args)

    monkeypatch.setattr(checking.parts, "part", part)
    with pytest.raises(RuntimeError):
        going_on.go_on(office.ctx, taken.id)
    assert 0 < files.one(office.finance, taken.id).done < taken.parts
    going_on.go_on(office.ctx, taken.id)
    assert told(files.one(office.finance, taken.id)) == ("checked", {"rows": 9, "usable": 8, "unusable": 1})


def test_a_file_of_the_wrong_kind_is_refused_and_nothing_is_kept(office: Office) -> None:
    with pytest.raises(Invalid, match="no column"):
        files.take(office.finance, "x.csv", io.BytesIO(b"id,time,status\n1,2,3\n"))
    assert files.listed(office.finance, PageQuery()).total == 0


def test_a_key_that_stands_in_a_row_of_no_use_is_not_kept(office: Office) -> None:
    secret = office.consumers[0].secret
    taken = take(office, [row(office, 1, application="", credential=secret)])
    (unusable,) = files.unusable(office.finance, taken.id, PageQuery()).rows
    assert secret[:16] in unusable.text
    assert secret not in unusable.text + unusable.why


def test_a_file_that_breaks_off_in_the_middle_is_refused_at_its_check(office: Office) -> None:
    taken = files.take(office.finance, "x.csv", io.BytesIO(text([row(office, 1)]) + b'"never closed,\n'))
    going_on.go_on(office.ctx, taken.id)
    refused = files.one(office.finance, taken.id)
    assert (refused.stage, "is no CSV" in refused.why) == ("refused", True)
    with pytest.raises(Conflict):
        files.record(office.finance, taken.id, leaving_out=True)
    files.drop(office.finance, taken.id)
    with pytest.raises(NotFound):
        files.one(office.finance, taken.id)


def test_a_file_with_too_many_unusable_rows_is_refused(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(checking, "MOST_UNUSABLE", 3)
    refused = take(office, [row(office, n, status="") for n in range(4)])
    assert (refused.stage, refused.why) == ("refused", "more than 3 of its rows cannot be used")


def test_a_file_nobody_does_anything_with_is_forgotten_and_one_that_was_recorded_never(office: Office) -> None:
    bring_in(office, [row(office, 1)])
    take(office, [row(office, 2, status="")])
    office.clock.forward(days=31)
    assert files.forget(office.ctx) == 1
    assert [each.stage for each in files.listed(office.finance, PageQuery()).rows] == ["done"]
    with office.ctx.transaction() as session:
        assert session.scalars(select(UsageFileRow)).all() == []


def test_late_usage_of_an_issued_month_is_charged_on_the_next_invoice(office: Office) -> None:
    """From the file to the late line: 300 calls of September, of which 253 are beyond what was priced before."""
    send(office, [row(office, n) for n in range(60)])
    office.clock.now = LATER
    september = issued(office)
    office.clock.now = datetime(2026, 10, 20, 12, tzinfo=UTC)
    late = [row(office, n, at=START + timedelta(seconds=n)) for n in range(1000, 1300)]
    taken = take(office, late)
    (month,) = usage_consequences.months(office.finance, taken.id)
    assert (month.consumer, month.calls) == ("Ferries", 300)
    assert month.number.startswith("INV-2026-")
    files.record(office.finance, taken.id, leaving_out=False)
    done(office.ctx, taken.id)
    assert [(each.consumer, each.units) for each in period(office).late] == [("Ferries", Decimal(300))]
    office.clock.now = datetime(2026, 11, 3, 9, tzinfo=UTC)
    charging.run(office.finance, OCTOBER)
    drafts = [invoices.one(office.finance, each) for each in period(office, OCTOBER).drafts]
    lines = [(x.belongs_to, x.quantity, x.amount) for draft in drafts for x in draft.lines if x.sort == "late"]
    # All 300 are in the tier of 0.003; what was charged before was rounded down to 0.18 from 0.179.
    assert lines == [(SEPTEMBER, Decimal(300), Decimal("0.90"))]
    assert september


def test_what_months_come_to_is_reckoned_once_a_file_is_recorded(office: Office) -> None:
    """And not at the next turn of the schedule, minutes later: whoever brought it in looks there next."""
    jobs.schedule(office.ctx, [going_on.RECKON_MONTHS])
    due = select(jobs.Stored).where(jobs.Stored.kind == going_on.RECKON_MONTHS)
    with office.ctx.transaction() as session:
        session.scalars(due).one().run_at += timedelta(minutes=4)
    taken = take(office, [row(office, 1)])
    files.record(office.finance, taken.id, leaving_out=False)
    done(office.ctx, taken.id)
    with office.ctx.transaction() as session:
        assert session.scalars(due).one().run_at == office.clock.now


def test_a_trial_that_such_calls_use_up_is_looked_at(office: Office) -> None:
    taken = take(office, [row(office, 1)])
    files.record(office.finance, taken.id, leaving_out=False)
    with office.ctx.transaction() as session:
        session.execute(delete(jobs.Stored))
        subscription = session.get_one(subscriptions.Subscription, office.consumers[0].subscription)
        subscription.state = "trial"
    done(office.ctx, taken.id)
    with office.ctx.transaction() as session:
        kinds = session.execute(select(jobs.Stored.kind, jobs.Stored.key)).all()
    assert (subscriptions.END_TRIAL, str(office.consumers[0].subscription)) in [tuple(each) for each in kinds]
