"""Calls let through for a proxy whose outcome is still to be told: kept on disk, so that a crash forgets none."""

from __future__ import annotations

import os
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import orjson

LONGEST = 8_000_000


@dataclass(slots=True)
class Promises:
    """A file of lines: a record as it would be with the outcome taken for 200, or the id of one that was told.

    What is told is struck out now and then, so that the file stays about as long as what is open.
    """

    path: Path
    _open: dict[str, bytes] = field(default_factory=dict)
    _descriptor: int = -1
    _length: int = 0

    def start(self) -> list[dict[str, Any]]:
        """The records that an earlier process was promised and never told of; begin with none."""
        self.path.parent.mkdir(parents=True, exist_ok=True)
        promised: dict[str, dict[str, Any]] = {}
        if self.path.exists():
            for raw in self.path.read_bytes().split(b"\n")[:-1]:
                line = orjson.loads(raw)
                if "outcome_of" in line:
                    promised.pop(line["outcome_of"], None)
                else:
                    promised[line["call_id"]] = line
        self._descriptor = os.open(self.path, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600)
        return list(promised.values())

    def forget(self) -> None:
        """Nothing is open any more: begin the file anew."""
        os.ftruncate(self._descriptor, 0)
        self._open.clear()
        self._length = 0

    def make(self, record: dict[str, Any]) -> None:
        """Promise a record. Raises `OSError`."""
        raw = orjson.dumps(record, option=orjson.OPT_APPEND_NEWLINE)
        self._write(raw)
        self._open[record["call_id"]] = raw

    def told(self, call_id: str) -> None:
        """One is told, and recorded in the journal already."""
        self._open.pop(call_id, None)
        if not self._open:
            self.forget()
            return
        self._write(orjson.dumps({"outcome_of": call_id}, option=orjson.OPT_APPEND_NEWLINE))
        if self._length > LONGEST and self._length > 4 * sum(map(len, self._open.values())):
            self._strike_out()

    def _write(self, raw: bytes) -> None:
        os.write(self._descriptor, raw)
        self._length += len(raw)

    def _strike_out(self) -> None:
        """Keep what is open alone, in a file put in the place of the old one."""
        kept = b"".join(self._open.values())
        fresh = self.path.with_suffix(".new")
        fresh.write_bytes(kept)
        fresh.replace(self.path)
        os.close(self._descriptor)
        self._descriptor = os.open(self.path, os.O_WRONLY | os.O_APPEND)
        self._length = len(kept)
