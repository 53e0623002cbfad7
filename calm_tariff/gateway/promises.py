"""Calls let through for a proxy whose outcome is still to be told: kept on disk, so that a crash forgets none."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import orjson


@dataclass(slots=True)
class Promises:
    """A file of lines: a record as it would be with the outcome taken for 200, or the id of one that was told."""

    path: Path
    _open: int = 0
    _descriptor: int | None = None

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
        assert self._descriptor is not None
        os.ftruncate(self._descriptor, 0)
        self._open = 0

    def make(self, record: dict[str, Any]) -> None:
        """Promise a record. Raises `OSError`."""
        assert self._descriptor is not None
        os.write(self._descriptor, orjson.dumps(record, option=orjson.OPT_APPEND_NEWLINE))
        self._open += 1

    def told(self, call_id: str) -> None:
        """One is told, and recorded in the journal already."""
        assert self._descriptor is not None
        self._open -= 1
        if self._open <= 0:
            self.forget()
            return
        os.write(self._descriptor, orjson.dumps({"outcome_of": call_id}, option=orjson.OPT_APPEND_NEWLINE))
