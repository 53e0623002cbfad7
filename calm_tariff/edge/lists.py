"""Lists over HTTP: which page is asked for, and what is shown as a file, CSV (RFC 4180) or JSON."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import fields, replace
from datetime import datetime
from itertools import islice
from typing import Annotated, Any, TypeVar

from fastapi import Depends, Query
from fastapi.responses import Response, StreamingResponse
from pydantic import TypeAdapter

from calm_tariff.store.base.paging import ROWS, Page, PageQuery

T = TypeVar("T")
PART = 1000
_CUTS = re.compile(r"[;\t\r\n]")


def page_query(
    words: Annotated[str, Query(max_length=200)] = "",
    sort: str = "",
    down: bool = False,
    cursor: str | None = None,
    rows: Annotated[int, Query(ge=1, le=1000)] = ROWS,
) -> PageQuery:
    """Which page of a list is asked for, in which order, and how long a page is."""
    return PageQuery(words.strip(), sort, down, cursor, rows)


Paged = Annotated[PageQuery, Depends(page_query)]


def all_of(read: Callable[[PageQuery], Page[T]], asked: PageQuery) -> Iterator[T]:
    """Every row of a list from the page asked for, read in parts."""
    asked = replace(asked, rows=PART)
    while True:
        page = read(asked)
        yield from page.rows
        if page.next is None:
            return
        asked = replace(asked, cursor=page.next)


def as_csv(name: str, kind: type, rows: Iterable[Any], left_out: Sequence[str] = ()) -> Response:
    """Rows of a dataclass as a file, sent while they are read: its fields are the columns. What is wrong with the
    question is told before anything is sent."""
    columns = [f.name for f in fields(kind) if f.name not in left_out]
    parts = _parts(rows)

    def sent() -> Iterator[str]:
        yield _lines([columns])
        for part in parts:
            yield _lines([_cell(getattr(row, column)) for column in columns] for row in part)

    return _file(f"{name}.csv", "text/csv; charset=utf-8", sent())


def lines_as_csv(name: str, head: Sequence[str], rows: Iterable[Sequence[str]]) -> Response:
    """Rows of text below a head as a file."""
    lines = ([_cell(cell) for cell in row] for row in rows)
    return _file(f"{name}.csv", "text/csv; charset=utf-8", iter([_lines([list(head)]), _lines(lines)]))


def as_json(name: str, kind: type, rows: Iterable[Any], left_out: Sequence[str] = ()) -> Response:
    """The same as a JSON array, each row as the API has it elsewhere."""
    written: TypeAdapter[Any] = TypeAdapter(kind)
    hidden, parts = set(left_out), _parts(rows)

    def sent() -> Iterator[bytes]:
        lead = b"["
        for part in parts:
            yield lead + b",\n".join(written.dump_json(row, exclude=hidden) for row in part)
            lead = b",\n"
        yield b"]" if lead != b"[" else b"[]"

    return _file(f"{name}.json", "application/json", sent())


def _parts(rows: Iterable[T]) -> Iterator[list[T]]:
    """Rows in parts, the first of which is read at once."""
    coming = iter(rows)
    first = list(islice(coming, PART))

    def read() -> Iterator[list[T]]:
        part = first
        while part:
            yield part
            part = list(islice(coming, PART))

    return read()


def _file(name: str, type: str, sent: Iterator[str] | Iterator[bytes]) -> Response:
    headers = {"content-disposition": f'attachment; filename="{name}"'}
    return StreamingResponse(sent, media_type=type, headers=headers)


def _lines(rows: Iterable[list[str]]) -> str:
    out = io.StringIO()
    csv.writer(out).writerows(rows)
    return out.getvalue()


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, datetime):
        return value.isoformat()
    text = "; ".join(map(str, value)) if isinstance(value, (list, tuple)) else str(value)
    # A consumer names itself: no name may begin a formula in the reader's spreadsheet, which may also cut cells at
    # semicolons and tabs.
    parts = [part.lstrip() for part in _CUTS.split(text)]
    risky = any(part[:1] in ("=", "+", "-", "@") for part in parts) or text[:1] in ("\t", "\r")
    return f"'{text}" if risky and not _is_number(text) else text


def _is_number(text: str) -> bool:
    return text.lstrip("-").replace(".", "", 1).isdigit()
