"""The gateway's journal: every decided call is on local disk before its response is finished."""

from __future__ import annotations

import logging
import os
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from calm_tariff.formats.journal import CLOSED, OPEN, line

log = logging.getLogger("calm_tariff.journal")
SEGMENT_RECORDS = 2000


class Unwritable(Exception):
    """The journal cannot be written; serving must stop rather than lose usage."""


@dataclass(slots=True)
class Journal:
    """Appends records to an open segment of one gateway, and closes segments for the shipper.

    `sync` forces every record to the disk itself, which also survives a power cut; without it a
    record survives the death of the process, not that of the machine.
    """

    folder: Path
    sync: bool = False
    fault: str | None = None
    torn: bool = False
    _descriptor: int | None = field(default=None)
    _path: Path | None = field(default=None)
    _records: int = 0
    _length: int = 0
    _sequence: int = 0

    def start(self) -> None:
        """Make the folder, and close what an earlier process of this gateway left open; `torn` tells whether that
        one ended without saying so."""
        self.folder.mkdir(parents=True, exist_ok=True)
        running = self.folder / "running"
        self.torn = running.exists()
        running.touch()
        for left in sorted(self.folder.glob(f"*{OPEN}")):
            left.rename(left.with_suffix(CLOSED))
        names = [p.stem for p in self.folder.iterdir()]
        self._sequence = max((int(n) for n in names if n.isdigit()), default=0)

    def stop(self) -> None:
        """End in good order: hand over what is open, and say so."""
        self.close_segment()
        (self.folder / "running").unlink(missing_ok=True)

    def append(self, record: dict[str, Any]) -> None:
        """Write one record. Raises `Unwritable`; what was half written is taken back."""
        raw = line(record)
        try:
            if self._descriptor is None:
                self._open()
            assert self._descriptor is not None
            written = os.write(self._descriptor, raw)
            if written != len(raw):
                os.ftruncate(self._descriptor, self._length)
                raise OSError(28, "only part of a record could be written")
            if self.sync:
                os.fdatasync(self._descriptor)
        except OSError as error:
            self.fault = f"{error.strerror or error} at {self.folder}"
            log.error("the journal cannot be written: %s", self.fault)
            raise Unwritable(self.fault) from error
        self.fault = None
        self._length += len(raw)
        self._records += 1
        if self._records >= SEGMENT_RECORDS:
            self.close_segment()

    def close_segment(self) -> None:
        """Hand the open segment to the shipper; nothing happens where it is empty."""
        if self._descriptor is None or self._path is None or self._records == 0:
            return
        os.close(self._descriptor)
        self._path.rename(self._path.with_suffix(CLOSED))
        self._descriptor, self._path = None, None

    def waiting(self) -> int:
        """How many closed segments are not shipped yet."""
        try:
            return sum(1 for name in os.listdir(self.folder) if name.endswith(CLOSED))
        except OSError:
            return 0

    def shipped(self) -> int:
        """The number of the last segment that is shipped, of all this gateway has written."""
        try:
            left = [int(name[:12]) for name in os.listdir(self.folder) if name[:12].isdigit()]
        except OSError:
            return 0
        return min(left) - 1 if left else self._sequence

    def probe(self) -> None:
        """After a fault, see whether writing works again, without leaving anything behind."""
        if self.fault is None:
            return
        probe = self.folder / "probe"
        try:
            probe.write_bytes(b"\0" * 65536)
            probe.unlink()
        except OSError:
            return
        self.fault = None

    def _open(self) -> None:
        self._sequence += 1
        self._path = self.folder / f"{self._sequence:012d}{OPEN}"
        flags = os.O_WRONLY | os.O_APPEND | os.O_CREAT | os.O_EXCL
        self._descriptor = os.open(self._path, flags, 0o600)
        self._records, self._length = 0, 0
