"""A batch of another gateway's calls: each counts once, by the meters and stays of its instant, or nothing does."""

from __future__ import annotations

import io
import json
from datetime import datetime, timedelta

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Invalid, NotAllowed, NotSignedIn
from calm_tariff.services.base.context import provider_of
from calm_tariff.services.compose import meters
from calm_tariff.services.compose.meters import MeterTyped
from calm_tariff.services.serve import instances, receipts, set_aside
from calm_tariff.services.serve.elsewhere import at_once, files
from calm_tariff.store.admit.applications import ApiKey, ApiKeyUse
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.serve.outside_usage import UsageFile
from calm_tariff.store.serve.usage import DailyAnswers
from tests.office import START, Office
from tests.services.months import at_once as beside_each_other
from tests.services.months import of
from tests.services.serve.elsewhere.sent import recorded, row, send, sums, text


def test_a_call_is_metered_summed_and_charged_as_our_own(office: Office) -> None:
    before = of(office, "Ferries").charge
    came = send(office, [row(office, n) for n in range(400)])
    assert (came.recorded, came.known, came.differing, came.left_out) == (400, 0, 0, [])
    assert sums(office) == (400, 400)
    call = recorded(office, 7)
    consumer = office.consumers[0]
    assert call is not None
    assert (call.stay_id, call.revision_id, call.subscription_id) == (
        consumer.stay,
        consumer.revision,
        consumer.subscription,
    )
    assert (call.source, call.outside_id, call.usage_file_id) == ("edge", "7", came.usage_file_id)
    # 10 are included: 20 x 0.004 and 370 x 0.003, of a month of which part is left out of the included units.
    assert of(office, "Ferries").charge > before
    receipt = receipts.receipt(office.manager, call.call_id)
    assert any("edge" in rung.title and "7" in rung.note for rung in receipt.rungs)


def test_the_same_source_and_id_counts_once_however_often_it_comes(office: Office) -> None:
    rows = [row(office, n) for n in range(5)]
    assert send(office, [*rows, rows[0]]).recorded == 5
    again = send(office, rows)
    assert (again.recorded, again.known, again.differing) == (0, 5, 0)
    assert sums(office) == (5, 5)
    assert send(office, [{**each, "source": "other"} for each in rows]).recorded == 5


def test_one_that_says_something_else_is_set_aside_even_at_another_time(office: Office) -> None:
    send(office, [row(office, 1), row(office, 2)])
    office.clock.forward(days=4)
    other_time = row(office, 1, at=START + timedelta(days=3))
    came = send(office, [other_time, {**row(office, 2), "bytes_out": "999"}, {**row(office, 3), "id": "2"}])
    assert (came.recorded, came.known, came.differing) == (0, 3, 3)
    assert sums(office) == (2, 2)
    said = [each.differs for each in set_aside.listed(office.manager, PageQuery()).rows]
    assert any("bytes out: 100 recorded, 999 repeated" in each for each in said)
    assert any(any(part.startswith("at: ") for part in each) for each in said)


def test_a_row_that_cannot_be_used_keeps_all_out_unless_it_may_be_left_out(office: Office) -> None:
    rows = [row(office, 1), {**row(office, 2), "status": "x"}, {**row(office, 3), "application": "app-none"}]
    with pytest.raises(Invalid, match=r"line 3: status.*line 4: application: there is no application app-none"):
        send(office, rows)
    assert sums(office) == (0, 0)
    with office.ctx.transaction() as session:
        assert session.scalars(select(UsageFile)).all() == []
    came = send(office, rows, leaving_out=True)
    assert [(each.line, each.why.split(":")[0]) for each in came.left_out] == [(3, "status"), (4, "application")]
    assert came.recorded == 1


def test_a_refusal_names_twenty_and_counts_the_rest(office: Office) -> None:
    with pytest.raises(Invalid, match=r"; and 10 more$"):
        send(office, [{**row(office, n), "status": ""} for n in range(30)])


@pytest.mark.parametrize(
    ("change", "why"),
    [
        ({"operation": "GET /tides/v1/nowhere"}, "is no operation of Tides v1"),
        ({"operation": "DELETE /tides/v1/stations"}, "is no operation of Tides v1"),
        ({"operation": "GET /boats"}, "is of no API"),
        ({"api": "Tides v9"}, "is of no version of Tides v9"),
        ({"credential": "nothing"}, "is the beginning of no key"),
        ({"time": (START - timedelta(days=1)).isoformat()}, "no subscription of"),
        ({"time": "2031-01-01T00:00:00Z"}, "is yet to come"),
    ],
)
def test_a_call_that_belongs_nowhere_says_why(office: Office, change: dict[str, str], why: str) -> None:
    with pytest.raises(Invalid, match=why):
        send(office, [{**row(office, 1), **change}])


def test_a_name_of_our_own_gateways_is_no_source(office: Office) -> None:
    instances.report(office.ctx, "gateway-1", "gateway", START, {})
    with pytest.raises(Invalid, match="a gateway of this house"):
        send(office, [row(office, 1, source="gateway-1")])


def test_nothing_is_taken_of_months_whose_calls_are_gone(office: Office) -> None:
    with office.ctx.transaction() as session:
        provider_of(session).calls_from = datetime(2026, 10, 1).date()
    with pytest.raises(Invalid, match="not kept any more"):
        send(office, [row(office, 1)])


def test_by_its_key_it_is_known_whose_a_call_is_and_when_the_key_was_used(office: Office) -> None:
    consumer = office.consumers[1]
    with office.ctx.transaction() as session:
        shown = session.get_one(ApiKey, consumer.key).prefix
    send(office, [row(office, 1, application="", credential=f"{shown}…")])
    call = recorded(office, 1)
    assert call is not None
    assert (call.key_id, call.application_id, call.consumer_id) == (
        consumer.key,
        consumer.application,
        consumer.member.consumer_id,
    )
    with office.ctx.transaction() as session:
        assert session.get_one(ApiKeyUse, consumer.key).last_at_us == call.at_us
    with pytest.raises(Invalid, match="is the beginning of no key"):
        send(office, [row(office, 2, credential=shown)])  # not a key of the application it names


def test_a_meter_counts_from_when_it_was_made_and_by_its_filter(office: Office) -> None:
    office.clock.forward(hours=2)
    every = [office.operations["GET /stations/{id}"]]
    made = meters.create(office.manager, MeterTyped("Megabytes", every, (), "bytes_out"))
    reported = MeterTyped("Cells", every, ("2xx",), "reported", header="X-Cells")
    cells = meters.create(office.manager, reported)
    at = START + timedelta(hours=3)
    office.clock.forward(hours=2)
    rows = [
        row(office, 1),
        row(office, 2, at=at, bytes_out="1500000", **{"reported:X-Cells": "2.5"}),
        row(office, 3, at=at, status="404", bytes_out="7"),
        row(office, 4, at=at, **{"reported:X-Cells": "many"}),
        row(office, 5, at=at, verdict="refused", status="429"),
    ]
    send(office, rows)
    calls = [recorded(office, n) for n in range(1, 6)]
    units = [call.units if call else None for call in calls]
    calls_, megabytes, numbers = str(office.meter), str(made.id), str(cells.id)
    assert units == [
        {calls_: "1"},
        {calls_: "1", megabytes: "1.500000", numbers: "2.500000"},
        {megabytes: "0.000007"},
        {calls_: "1", megabytes: "0.000100", numbers: "0"},
        {},
    ]
    assert [call.remarks for call in calls if call][3] == ["X-Cells was absent or no number, and counted 0"]
    sums(office)
    refused = calls[4]
    assert refused is not None
    assert "another gateway" in receipts.receipt(office.manager, refused.call_id).summary.lower()


def test_how_another_gateways_back_end_answers_says_nothing_of_ours(office: Office) -> None:
    send(office, [row(office, 1, status="503")])
    with office.ctx.transaction() as session:
        assert session.scalars(select(DailyAnswers)).all() == []


def test_cloud_events_say_what_rows_say(office: Office) -> None:
    data = {name: value for name, value in row(office, 1).items() if name not in ("source", "id", "time")}
    events = [
        {
            "specversion": "1.0",
            "type": "org.example.called",
            "source": "edge",
            "id": str(n),
            "time": START.isoformat(),
            "data": data,
        }
        for n in range(3)
    ]
    came = at_once.send(office.finance, io.BytesIO(json.dumps(events).encode()), "", leaving_out=False)
    assert came.recorded == 3
    assert sums(office) == (3, 3)


def test_the_same_key_sends_once(office: Office) -> None:
    first = send(office, [row(office, 1)], key="k")
    assert send(office, [row(office, 1)], key="k") == first
    assert sums(office) == (1, 1)
    with office.ctx.transaction() as session:
        assert len(session.scalars(select(UsageFile)).all()) == 1


def test_several_at_once_record_each_call_once(office: Office) -> None:
    rows = text([row(office, n) for n in range(60)])
    came = beside_each_other(office.finance, lambda _: at_once.send(office.finance, io.BytesIO(rows), "", False), 4)
    assert sorted(each.recorded for each in came) == [0, 0, 0, 60]
    assert sums(office) == (60, 60)


def test_more_than_a_batch_is_a_file(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(at_once, "MOST_ROWS", 3)
    with pytest.raises(Invalid, match="bring more as a file"):
        send(office, [row(office, n) for n in range(4)])
    assert send(office, [row(office, n) for n in range(3)]).recorded == 3


def test_finance_and_operations_send_and_nobody_else(office: Office) -> None:
    file = text([row(office, 1)])
    for ctx, refusal in ((office.reviewer, NotAllowed), (office.acting(office.consumers[0]), NotSignedIn)):
        with pytest.raises(refusal):
            at_once.send(ctx, io.BytesIO(file), "", leaving_out=True)
        with pytest.raises(refusal):
            files.take(ctx, "x", io.BytesIO(file))


def test_what_came_so_is_shown_to_whose_it_is_and_no_other(office: Office) -> None:
    send(office, [row(office, 1)])
    call = recorded(office, 1)
    assert call is not None
    own = receipts.own_receipt(office.acting(office.consumers[0]), call.call_id)
    assert own.call.call_id == call.call_id
    with pytest.raises(Exception, match="no call of yours"):
        receipts.own_receipt(office.acting(office.consumers[1]), call.call_id)
