"""Files of calls that other gateways counted: CSV (RFC 4180), JSON Lines, CloudEvents 1.0, one a line or a batch.

A file is cut into parts at ends of rows, and each part is read by itself, so that the longest need not be held at once.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from operator import itemgetter
from typing import Any, BinaryIO, Literal

import orjson

from calm_tariff.core.errors import Invalid
from calm_tariff.core.outside_calls import NONE_REPORTED, OutsideCall, Said, read

Form = Literal["csv", "json"]
PART_BYTES = 8_000_000
LONGEST_ROW = 100_000
# A batch is one value, which is read whole.
LONGEST_BATCH = 50_000_000
FIELDS = Said._fields
REPORTED = "reported"
# The column in which a file of rows that were left out says why; it is passed over when they are brought in again.
PASSED_OVER = frozenset({"line", "why"})
_MARK = b"\xef\xbb\xbf"
Read = OutsideCall | str


@dataclass(frozen=True, slots=True, kw_only=True)
class Layout:
    """How the rows of a file are read: its form, the source of rows that name none, and of CSV what stands between
    cells and in which."""

    form: Form
    source: str = ""
    between: str = ","
    head: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Part:
    """So many rows of a file, and the number of the line, or the place in a batch, at which they begin."""

    first: int
    text: bytes


def parts(file: BinaryIO, source: str = "", size: int = PART_BYTES) -> tuple[Layout, Iterator[Part]]:
    """How a file is read, and its parts. Raises `Invalid` for one that is empty, or whose head is not that of calls; so
    may the parts."""
    beginning = file.read(size).removeprefix(_MARK)
    first = beginning.lstrip()[:1]
    if not first:
        raise Invalid("is empty", "file")
    if first == b"[":
        return Layout(form="json", source=source), _of_batch(beginning, file, size)
    if first == b"{":
        return Layout(form="json", source=source), _cut(beginning, file, size, quoted=False)
    return _layout(beginning, source), _cut(beginning, file, size, quoted=True)


def rows(part: Part, layout: Layout) -> Iterator[tuple[int, Read]]:
    """The rows of a part, each with its line: a call, or what is wrong with it. Raises `Invalid` where the part is no
    text, or no CSV."""
    try:
        text = part.text.decode()
    except UnicodeDecodeError as error:
        line = part.first + part.text[: error.start].count(b"\n")
        raise Invalid(f"line {line} is no text in UTF-8", "file") from None
    return _csv_rows(text, part.first, layout) if layout.form == "csv" else _json_rows(text, part.first, layout.source)


def _layout(beginning: bytes, source: str) -> Layout:
    line = beginning.split(b"\n", 1)[0].decode("utf-8", "replace").rstrip("\r")
    between = ";" if line.count(";") > line.count(",") else ","
    try:
        head = tuple(name.strip() for name in next(csv.reader([line], delimiter=between, strict=True)))
    except csv.Error as error:
        raise Invalid(f"has no head: {error}", "file") from None
    head = tuple(name if name.startswith(f"{REPORTED}:") else name.lower().replace(" ", "_") for name in head)
    for name in head:
        if name not in FIELDS and name not in PASSED_OVER and not name.startswith(f"{REPORTED}:"):
            known = f"{', '.join(FIELDS)} and {REPORTED}:HEADER"
            raise Invalid(f"has a column {name[:60]!r}, which calls have not; they have {known}", "file")
        if head.count(name) > 1:
            raise Invalid(f"has the column {name[:60]!r} twice", "file")
    needed = ("id", "time", "status") if source else ("source", "id", "time", "status")
    missing = [name for name in needed if name not in head]
    if missing:
        raise Invalid(f"has no column {', '.join(missing)}", "file")
    return Layout(form="csv", source=source, between=between, head=head)


def _cut(beginning: bytes, file: BinaryIO, size: int, quoted: bool) -> Iterator[Part]:
    """Parts that end where a row does: of CSV where a line ends outside of quotes."""
    held, line = beginning, 1
    while held:
        more = file.read(size)
        end = len(held) if not more else _row_end(held, quoted)
        if end == 0 and len(held) > size + LONGEST_ROW:
            raise Invalid(f"line {line}: a row of over {LONGEST_ROW:,} bytes, or a quote that is not closed", "file")
        if end:
            yield Part(line, held[:end])
            line += held.count(b"\n", 0, end)
        held = held[end:] + more


def _row_end(held: bytes, quoted: bool) -> int:
    """Where the last row that is whole ends; 0 for none."""
    end = held.rfind(b"\n") + 1
    while quoted and end and held.count(b'"', 0, end) % 2:
        end = held.rfind(b"\n", 0, end - 1) + 1
    return end


def _of_batch(beginning: bytes, file: BinaryIO, size: int) -> Iterator[Part]:
    text = beginning + file.read(LONGEST_BATCH + 1)
    if len(text) > LONGEST_BATCH:
        raise Invalid(f"a batch may have {LONGEST_BATCH:,} bytes; send JSON Lines, one call a line", "file")
    try:
        every = orjson.loads(text)
    except orjson.JSONDecodeError as error:
        raise Invalid(f"is no JSON: {error}", "file") from None
    held, first = bytearray(), 1
    for place, each in enumerate(every, 1):
        held += orjson.dumps(each, option=orjson.OPT_APPEND_NEWLINE)
        if len(held) >= size:
            yield Part(first, bytes(held))
            held, first = bytearray(), place + 1
    if held:
        yield Part(first, bytes(held))


def _csv_rows(text: str, line: int, layout: Layout) -> Iterator[tuple[int, Read]]:
    head = layout.head
    width = len(head)
    # What has no column is read from a cell that is put behind the others.
    places = {name: place for place, name in enumerate(head)}
    cells_of = itemgetter(*(places.get(name, width) for name in FIELDS))
    reported = [(name.partition(":")[2], place) for name, place in places.items() if name.startswith(f"{REPORTED}:")]
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=layout.between, strict=True, skipinitialspace=True)
    begins = line
    at = line - 1
    try:
        for cells in reader:
            row_line, begins = begins, at + reader.line_num + 1
            if row_line == 1 or not any(cells):
                continue
            if len(cells) != width:
                yield row_line, f"has {len(cells)} cells, and the head has {width}"
                continue
            cells.append("")
            said = cells_of(cells)
            numbers = {name: cells[place] for name, place in reported} if reported else NONE_REPORTED
            yield row_line, _call(said if said[0] else (layout.source, *said[1:]), numbers)
    except csv.Error as error:
        raise Invalid(f"is no CSV: line {at + reader.line_num}: {error}", "file") from None


def _json_rows(text: str, line: int, source: str) -> Iterator[tuple[int, Read]]:
    for number, row in enumerate(text.split("\n"), line):
        if not row.strip():
            continue
        try:
            found = orjson.loads(row)
        except orjson.JSONDecodeError as error:
            yield number, f"is no JSON: {error}"
            continue
        try:
            yield number, _call(*_told(found, source))
        except Invalid as error:
            yield number, str(error)


def _told(found: Any, source: str) -> tuple[tuple[str, ...], Mapping[str, str]]:
    """What a JSON object says of a call, and the numbers that were reported. Raises `Invalid`."""
    if not isinstance(found, dict):
        raise Invalid("is no object")
    if "specversion" in found:
        found = _in_event(found)
    numbers = found.pop(REPORTED, None)
    for name in found:
        if name not in FIELDS and name not in PASSED_OVER:
            raise Invalid(f"calls have no {name[:60]!r}; they have {', '.join(FIELDS)} and {REPORTED}")
    said = [_text(name, found.get(name, "")) for name in FIELDS]
    said[0] = said[0] or source
    if numbers is None:
        return tuple(said), NONE_REPORTED
    if not isinstance(numbers, dict):
        raise Invalid("must be an object of numbers by header", REPORTED)
    return tuple(said), {name: _text(f"{REPORTED}:{name}", number) for name, number in numbers.items()}


def _in_event(event: dict[str, Any]) -> dict[str, Any]:
    """What an event says of a call: the envelope names it, its data says the rest."""
    if event["specversion"] != "1.0":
        raise Invalid("must be 1.0", "specversion")
    data = event.get("data")
    if not isinstance(data, dict):
        raise Invalid("must be an object that says what was called", "data")
    return data | {name: event.get(name, "") for name in ("source", "id", "time")}


def _text(name: str, value: Any) -> str:
    if isinstance(value, str):
        return value
    if value is None:
        return ""
    if isinstance(value, int) and not isinstance(value, bool):
        return str(value)
    raise Invalid("must be text or a whole number; write others as text, so that they stay exact", name[:60])


def _call(said: tuple[str, ...], numbers: Mapping[str, str]) -> Read:
    try:
        return read(said, numbers)
    except Invalid as error:
        return str(error)
