"""Lists as files: every row once, however many parts they are read in, and wrong questions told before anything."""

from __future__ import annotations

import asyncio
import csv
import io
import json
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from decimal import Decimal

import pytest
from fastapi.responses import Response, StreamingResponse

from calm_tariff.core.errors import Invalid
from calm_tariff.edge.lists import PART, as_csv, as_json


@dataclass(frozen=True, slots=True)
class Row:
    name: str
    at: datetime
    units: Decimal
    owner: str = "somebody"


def rows(count: int) -> list[Row]:
    return [Row(f"n{n}", datetime(2026, 9, 1, tzinfo=UTC), Decimal("0.10")) for n in range(count)]


def text(of: Response) -> str:
    assert isinstance(of, StreamingResponse)

    async def read() -> list[str | bytes | memoryview]:
        return [part async for part in of.body_iterator]

    return "".join(part if isinstance(part, str) else bytes(part).decode() for part in asyncio.run(read()))


@pytest.mark.parametrize("count", [0, 1, PART, PART + 1, 3 * PART])
def test_a_file_has_every_row_once_and_in_its_order(count: int) -> None:
    written = json.loads(text(as_json("calls", Row, iter(rows(count)), left_out=("owner",))))
    assert [row["name"] for row in written] == [f"n{n}" for n in range(count)]
    assert written[:1] == [{"name": "n0", "at": "2026-09-01T00:00:00Z", "units": "0.10"}][:count]
    columns, *lines = csv.reader(io.StringIO(text(as_csv("calls", Row, iter(rows(count)), left_out=("owner",)))))
    assert columns == ["name", "at", "units"]
    assert [name for name, *_ in lines] == [row["name"] for row in written]


@pytest.mark.parametrize("file", [as_csv, as_json])
def test_what_is_wrong_is_told_before_anything_is_sent(file: type) -> None:
    def refuses() -> Iterator[Row]:
        raise Invalid("is no such order", "sort")
        yield rows(1)[0]

    with pytest.raises(Invalid, match="is no such order"):
        file("calls", Row, refuses())
    answer = file("calls", Row, rows(1))
    assert answer.headers["content-disposition"].startswith('attachment; filename="calls.')
