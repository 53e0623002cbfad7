"""What has to be known of a call that another gateway counted."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.errors import Invalid
from calm_tariff.core.ids import outside_call_id
from calm_tariff.core.outside_calls import AHEAD, Said, instant, must_be_told_apart, read
from calm_tariff.core.periods import instant_of

SAID = Said(
    source="edge",
    id="7",
    time="2026-09-30T23:59:59.000001+01:00",
    application="app-1",
    operation="GET /tides/v1/stations/{id}",
    status="200",
)


def test_a_call_is_read_to_the_microsecond_and_the_byte() -> None:
    call = read(SAID._replace(bytes_out="1500", bytes_in="3"), {"X-Cells": "12.5", "X-None": ""})
    assert call.at_us == instant_of(datetime(2026, 9, 30, 22, 59, 59, 1, tzinfo=UTC))
    assert (call.method, call.path, call.status, call.refused) == ("GET", "/tides/v1/stations/{id}", 200, False)
    assert (call.bytes_in, call.bytes_out, dict(call.reported)) == (3, 1500, {"x-cells": "12.5"})


def test_an_operation_and_a_method_with_a_path_say_the_same() -> None:
    apart = SAID._replace(operation="", method="GET", path="/tides/v1/stations/{id}")
    assert read(apart) == read(SAID)


def test_a_query_is_left_behind_because_it_may_hold_a_credential() -> None:
    for said in (
        SAID._replace(operation="", method="GET", path="/tides/v1/stations/7?key=calmkey-live-x"),
        SAID._replace(operation="GET /tides/v1/stations/7?key=calmkey-live-x"),
    ):
        assert read(said).path == "/tides/v1/stations/7"


def test_a_refused_call_is_said_to_be() -> None:
    assert read(SAID._replace(verdict="refused", status="429")).refused


@pytest.mark.parametrize(
    ("change", "where"),
    [
        ({"source": ""}, "source"),
        ({"source": "x" * 61}, "source"),
        ({"source": "a\nb"}, "source"),
        ({"id": ""}, "id"),
        ({"id": "x" * 201}, "id"),
        ({"id": "a\tb"}, "id"),
        ({"time": ""}, "time"),
        ({"time": "2026-09-30"}, "time"),
        ({"time": "2026-09-30T12:00:00"}, "time"),
        ({"time": "30.9.2026 12:00"}, "time"),
        ({"time": "0001-01-01T00:00:00+23:59"}, ""),
        ({"application": ""}, "application"),
        ({"operation": "get /tides"}, "operation"),
        ({"operation": "GET tides"}, "operation"),
        ({"operation": "", "method": "", "path": "/a"}, "method"),
        ({"operation": "", "method": "GET", "path": ""}, "path"),
        ({"operation": "", "method": "GET", "path": f"/{'x' * 400}"}, "path"),
        ({"status": ""}, "status"),
        ({"status": "99"}, "status"),
        ({"status": "600"}, "status"),
        ({"status": "20x"}, "status"),
        ({"status": "²00"}, "status"),
        ({"verdict": "held"}, "verdict"),
        ({"bytes_out": "-1"}, "bytes_out"),
        ({"bytes_out": "1.5"}, "bytes_out"),
        ({"bytes_in": "1" * 17}, "bytes_in"),
        ({"bytes_in": "٣"}, "bytes_in"),
    ],
)
def test_what_is_missing_or_wrong_is_named(change: dict[str, str], where: str) -> None:
    said = SAID._replace(**change)
    if not where:  # long ago, but a time
        assert read(said).at_us < 0
        return
    with pytest.raises(Invalid) as refused:
        read(said)
    assert refused.value.where == where


def test_reported_numbers_are_bounded() -> None:
    for numbers in ({"X": "1" * 101}, {"X" * 101: "1"}, {f"X-{n}": "1" for n in range(21)}, {"X\n": "1"}):
        with pytest.raises(Invalid, match="reported"):
            read(SAID, numbers)


@given(st.datetimes(min_value=datetime(1900, 1, 1), max_value=datetime(2200, 1, 1)), st.integers(-14 * 60, 14 * 60))
def test_every_time_with_an_offset_is_the_instant_it_says(moment: datetime, minutes: int) -> None:
    behind = "-" if minutes < 0 else "+"
    text = f"{moment.isoformat()}{behind}{abs(minutes) // 60:02d}:{abs(minutes) % 60:02d}"
    assert instant(text) == instant_of((moment - timedelta(minutes=minutes)).replace(tzinfo=UTC))


def test_nothing_is_taken_from_the_future_or_from_when_nothing_is_kept() -> None:
    call = read(SAID)
    must_be_told_apart(call, call.at_us, call.at_us - AHEAD)
    with pytest.raises(Invalid, match="yet to come"):
        must_be_told_apart(call, 0, call.at_us - AHEAD - 1)
    with pytest.raises(Invalid, match="not kept any more"):
        must_be_told_apart(call, call.at_us + 1, call.at_us)


@given(st.text(min_size=1), st.text(min_size=1), st.text(min_size=1))
def test_one_source_and_id_is_one_call_and_no_other(source: str, one: str, other: str) -> None:
    made = outside_call_id(source, one)
    assert len(made) == 26
    assert made == outside_call_id(source, one)
    assert (made == outside_call_id(source, other)) is (one == other)
    assert made != outside_call_id(f"{source}{one}", other)
