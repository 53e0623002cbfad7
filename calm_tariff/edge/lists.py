"""Lists over HTTP: which page is asked for, and what is shown as a file, CSV (RFC 4180) or JSON."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import fields, replace
from itertools import chain, islice
from typing import Annotated, Any, TypeVar

from fastapi import Depends, Query
from fastapi.responses import Response, StreamingResponse
from pydantic import TypeAdapter

from calm_tariff.edge import attachment
from calm_tariff.formats import csv_cells
from calm_tariff.store.base.paging import ROWS, Page, PageQuery

T = TypeVar("T")
PART = 1000


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


def begun(rows: Iterable[T]) -> Iterator[T]:
    """The same rows, of which the first are read at once: what is wrong with the question is told before anything is
    sent."""
    return chain.from_iterable(_parts(rows))


def as_csv(name: str, kind: type, rows: Iterable[Any], left_out: Sequence[str] = ()) -> Response:
    """Rows of a dataclass as a file, sent while they are read: its fields are the columns. What is wrong with the
    question is told before anything is sent."""
    columns = [f.name for f in fields(kind) if f.name not in left_out]
    parts = _parts(rows)

    def sent() -> Iterator[str]:
        yield csv_cells.lines([columns])
        for part in parts:
            yield csv_cells.lines([getattr(row, column) for column in columns] for row in part)

    return _file(f"{name}.csv", "text/csv; charset=utf-8", sent())


def lines_as_csv(name: str, head: Sequence[str], rows: Iterable[Sequence[str]]) -> Response:
    """Rows of text below a head as a file."""
    return _file(f"{name}.csv", "text/csv; charset=utf-8", iter([csv_cells.lines([head]), csv_cells.lines(rows)]))


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
    return StreamingResponse(sent, media_type=type, headers=attachment.named(name))
