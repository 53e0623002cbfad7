"""Loading calls of which none is recorded yet: their rows as a file, and their sums, counted where they are alike.

A call is one line here and nothing else is made of it: that is what a million of them have time for.
"""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal
from pathlib import Path
from typing import Any

import orjson
from sqlalchemy.orm import Session

from calm_tariff.core.outside_calls import OutsideCall
from calm_tariff.core.periods import HOUR
from calm_tariff.store.serve.call_writer import Record, Sums, add_sums, note_uses
from calm_tariff.store.serve.file_loading import NULL, cell, send
from calm_tariff.store.serve.usage import Call

# What differs from call to call, and what those that are alike share.
_OWN = ("call_id", "at_us", "source", "outside_id", "bytes_in", "bytes_out", "method", "path")
_TOLD = ("units", "reported", "remarks")
_ALIKE = (
    "environment",
    "verdict",
    "refused_by",
    "status",
    "operation_id",
    "api_version_id",
    "product_id",
    "revision_id",
    "stay_id",
    "subscription_id",
    "application_id",
    "consumer_id",
    "key_id",
    "credential",
)
_NEVER: dict[str, int | str] = dict.fromkeys(
    ("wait_us", "took_us", "decide_us", "back_end_us", "reserved", "decided_us", "decided_order"), 0
)
_EMPTY: dict[str, int | str] = {"checks": "[]", "told": "{}", "carried": "{}", "counted": "{}", "sent": "{}"}


class Alike:
    """Calls that differ in nothing but when they came, how they are called, where exactly they went and how large they
    were: given as the record of one. With `counted_by` they come to what that says, each; else it is said of each."""

    __slots__ = ("counted_by", "line", "record", "told")

    def __init__(self, record: Record, counted_by: Mapping[str, str] | None) -> None:
        self.record, self.counted_by = record, counted_by
        self.line = "\t".join(NULL if record[name] is None else cell(str(record[name])) for name in _ALIKE)
        self.told = None if counted_by is None else _told(counted_by, {}, ())


class FreshCalls:
    """Calls on their way into the table, as a file that is written while they are added."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._lines: list[str] = []
        self._cells: dict[tuple[int, Alike], list[int]] = {}
        self._units: dict[tuple[int, Alike], dict[str, Decimal]] = {}

    def add(self, alike: Alike, call_id: str, call: OutsideCall, record: Record | None = None) -> None:
        """Add a call: with its `record` where calls like it do not all come to the same."""
        told = alike.told
        where = call.at_us // HOUR, alike
        if told is None or call.reported:
            units = alike.counted_by if record is None else record["units"]
            told = _told(units or {}, call.reported, record["remarks"] if record else ())
            if record is not None:
                sums = self._units.setdefault(where, {})
                for meter, each in record["units"].items():
                    sums[meter] = sums.get(meter, Decimal(0)) + Decimal(each)
        self._lines.append(
            f"{call_id}\t{call.at_us}\t{cell(call.source)}\t{cell(call.id)}\t{call.bytes_in}\t{call.bytes_out}"
            f"\t{call.method}\t{cell(call.path)}\t{told}\t{alike.line}\n"
        )
        sums_of = self._cells.get(where)
        if sums_of is None:
            sums_of = self._cells[where] = [0, 0, 0, 0]
        sums_of[0] += 1
        sums_of[1] += call.bytes_in
        sums_of[2] += call.bytes_out
        sums_of[3] = max(sums_of[3], call.at_us)

    def load(self, session: Session, file_id: int) -> int:
        """Load what was added, with its sums, in the caller's transaction, over a connection that may send files;
        returns how many. Raises `Invalid` where one is recorded already."""
        self._path.write_text("".join(self._lines), encoding="utf-8")
        connection = session.connection()
        same = {**_NEVER, **_EMPTY, "usage_file_id": file_id}
        send(connection, self._path, Call, (*_OWN, *_TOLD, *_ALIKE), same)
        self._path.unlink()
        sums, last = Sums(), dict[int, int]()
        for (hour, alike), (calls, sent, answered, at_us) in self._cells.items():
            sums.count(self._summed(hour, alike, (calls, sent, answered)), calls)
            if alike.record["key_id"] is not None:
                last[alike.record["key_id"]] = max(last.get(alike.record["key_id"], 0), at_us)
        add_sums(session, sums)
        note_uses(session, [{"key_id": key, "last_at_us": at, "address": ""} for key, at in sorted(last.items())])
        return len(self._lines)

    def _summed(self, hour: int, alike: Alike, sums: tuple[int, int, int]) -> Record:
        calls, sent, answered = sums
        units: dict[str, Any] = {m: Decimal(each) * calls for m, each in (alike.counted_by or {}).items()}
        units.update(self._units.get((hour, alike), {}))
        return {
            **alike.record,
            "at_us": hour * HOUR,
            "bytes_in": sent,
            "bytes_out": answered,
            "units": units,
            "counted": {},
        }


def _told(units: Mapping[str, str], reported: Mapping[str, str], remarks: Any) -> str:
    return "\t".join(orjson.dumps(each).decode().replace("\\", "\\\\") for each in (units, reported, remarks))
