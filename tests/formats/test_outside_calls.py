"""Files of calls that other gateways counted: every form says the same, however it is cut into parts."""

from __future__ import annotations

import csv
import io
import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.errors import Invalid
from calm_tariff.core.outside_calls import OutsideCall
from calm_tariff.formats.outside_calls import PART_BYTES, parts, rows

ROW = {
    "source": "edge",
    "id": "1",
    "time": "2026-09-12T10:00:00Z",
    "application": "app-1",
    "operation": "GET /tides/v1/stations",
    "status": "200",
    "bytes_out": "1200",
}


def read(text: str, source: str = "", size: int = PART_BYTES) -> list[tuple[int, Any]]:
    layout, found = parts(io.BytesIO(text.encode()), source, size)
    return [row for part in found for row in rows(part, layout)]


def as_csv(lines: list[dict[str, str]], **how: Any) -> str:
    out = io.StringIO()
    writer = csv.DictWriter(out, list(lines[0]), **how)
    writer.writeheader()
    writer.writerows(lines)
    return out.getvalue()


def event(row: dict[str, Any], **changes: Any) -> dict[str, Any]:
    data = {name: value for name, value in row.items() if name not in ("source", "id", "time")}
    envelope = {name: row[name] for name in ("source", "id", "time")}
    return {"specversion": "1.0", "type": "example.called", "subject": "x", **envelope, "data": data, **changes}


def test_every_form_says_the_same() -> None:
    plain = [ROW, {**ROW, "id": "2", "time": "2026-09-12T11:00:00+01:00", "bytes_out": "9"}]
    numbers = [{**row, "bytes_out": int(row["bytes_out"]), "status": 200} for row in plain]
    forms = [
        as_csv(plain),
        as_csv(plain, delimiter=";"),
        "\ufeff" + as_csv(plain, lineterminator="\n", quoting=csv.QUOTE_ALL),
        "\n".join(map(json.dumps, numbers)),
        "\n".join(json.dumps(event(row)) for row in numbers),
        json.dumps([event(row) for row in numbers], indent=1),
        json.dumps(plain),
    ]
    first, *others = [[call for _, call in read(form)] for form in forms]
    assert all(isinstance(call, OutsideCall) for call in first)
    assert [call.bytes_out for call in first] == [1200, 9]
    assert all(other == first for other in others)


@given(
    st.lists(st.text(st.characters(codec="utf-8", exclude_categories=("C", "Z")) | st.sampled_from('",;'), max_size=9)),
    st.integers(80, 400),
)
def test_however_it_is_cut_no_row_is_lost_or_moved(tails: list[str], size: int) -> None:
    wanted = [{**ROW, "id": f"{n}-{tail}"} for n, tail in enumerate(tails)] or [ROW]
    text = as_csv(wanted)
    cut, whole = read(text, size=size), read(text)
    assert cut == whole
    assert [call.id for _, call in whole] == [row["id"] for row in wanted]
    lines = "\n".join(map(json.dumps, wanted))
    assert [call for _, call in read(lines, size=size)] == [call for _, call in whole]
    assert read(json.dumps(wanted), size=size) == read(json.dumps(wanted))


def test_rows_stand_at_the_line_they_begin_at() -> None:
    text = as_csv([{**ROW, "id": 'a\n"b"'}, ROW, {**ROW, "status": "?"}]).replace("\r\n", "\n")
    found = read(text)
    assert [line for line, _ in found] == [2, 4, 5]
    assert found[0][1] == "id: holds a character that cannot be seen"
    assert found[2][1] == "status: must be an HTTP status code, from 100 to 599"
    assert [line for line, _ in read(text, size=60)] == [2, 4, 5]


def test_a_source_for_all_rows_stands_where_they_name_none() -> None:
    row = {name: value for name, value in ROW.items() if name != "source"}
    assert [call.source for _, call in read(as_csv([row]), source="bulk")] == ["bulk"]
    assert [call.source for _, call in read(json.dumps(row), source="bulk")] == ["bulk"]
    assert [call.source for _, call in read(as_csv([ROW, {**ROW, "source": ""}]), source="bulk")] == ["edge", "bulk"]


def test_reported_numbers_have_columns_of_their_own() -> None:
    (by_csv,) = read(as_csv([{**ROW, "reported:X-Cells": "12.50"}]))
    (by_json,) = read(json.dumps({**ROW, "reported": {"X-Cells": "12.50"}}))
    assert by_csv[1].reported == by_json[1].reported == {"x-cells": "12.50"}


@pytest.mark.parametrize(
    ("text", "what"),
    [
        ("", "is empty"),
        (" \n ", "is empty"),
        ("id,time,status\n1,2,3\n", "no column source"),
        ("source,id\n", "no column time, status"),
        ("source,id,time,status,colour\n", "column 'colour'"),
        ("source,id,time,status,id\n", "'id' twice"),
        ("[1, 2", "is no JSON"),
        ('source,id,time,status\n"edge,1,2,3\n', "is no CSV"),
        ('source,id,time,status\nedge,"a"b,2,3\n', "is no CSV: line 2"),
    ],
)
def test_a_file_that_is_none_of_calls_is_refused_and_says_why(text: str, what: str) -> None:
    with pytest.raises(Invalid, match=what):
        read(text)


def test_a_file_that_is_no_text_names_the_line() -> None:
    layout, found = parts(io.BytesIO(as_csv([ROW, ROW]).encode().replace(b"\r\n", b"\n") + b"\xff\xfe,,,\n"))
    with pytest.raises(Invalid, match="line 4 is no text"):
        [list(rows(part, layout)) for part in found]


def test_a_quote_that_is_never_closed_does_not_fill_the_memory() -> None:
    text = as_csv([ROW]) + '"' + "x\n" * 100_000
    with pytest.raises(Invalid, match="a quote that is not closed"):
        read(text, size=1000)


@pytest.mark.parametrize(
    ("row", "what"),
    [
        ([], "is no object"),
        (7, "is no object"),
        ({**ROW, "bytesOut": 1}, "calls have no 'bytesOut'"),
        ({**ROW, "bytes_out": 1.5}, "bytes_out: must be text or a whole number"),
        ({**ROW, "status": True}, "status: must be text or a whole number"),
        ({**ROW, "reported": 3}, "reported: must be an object"),
        ({**ROW, "reported": {"X": 0.1}}, "reported:X: must be text or a whole number"),
        (event(ROW, specversion="0.3"), "specversion: must be 1.0"),
        (event(ROW, data="text"), "data: must be an object"),
        (event(ROW, time=None), "time: is missing"),
    ],
)
def test_a_row_that_is_none_says_why_and_the_others_are_read(row: Any, what: str) -> None:
    found = read(json.dumps(ROW) + "\n" + json.dumps(row) + "\n{not json\n" + json.dumps(ROW))
    assert [line for line, _ in found] == [1, 2, 3, 4]
    assert isinstance(found[0][1], OutsideCall)
    assert what in found[1][1]
    assert found[2][1].startswith("is no JSON")
    assert isinstance(found[3][1], OutsideCall)


def test_a_row_of_another_width_is_told_and_hides_none() -> None:
    found = read("source,id,time,application,operation,status\nedge,1\n" + ",".join(list(ROW.values())[:6]) + "\n\n")
    assert found[0] == (2, "has 2 cells, and the head has 6")
    assert [line for line, _ in found] == [2, 3]
