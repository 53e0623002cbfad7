"""The journal: every record is on the disk before anybody is answered, and none twice or in part."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

import pytest

from calm_tariff.formats.journal import CLOSED, OPEN
from calm_tariff.gateway.recording import journal as module
from calm_tariff.gateway.recording.journal import Journal, Unwritable


def begun(folder: Path) -> Journal:
    journal = Journal(folder / "gateway-1")
    journal.start()
    return journal


def kept(folder: Path, suffix: str = "") -> dict[str, list[int]]:
    """The numbers in each segment, by its name."""
    files = sorted((folder / "gateway-1").glob(f"0*{suffix}"))
    return {path.name: [json.loads(line)["n"] for line in path.read_bytes().splitlines()] for path in files}


def test_a_record_is_on_the_disk_when_append_returns_and_is_handed_over_when_closed(tmp_path: Path) -> None:
    journal = begun(tmp_path)
    journal.append({"n": 1})
    assert kept(tmp_path) == {f"000000000001{OPEN}": [1]}
    assert (journal.waiting(), journal.shipped()) == (0, 0)
    journal.close_segment()
    journal.close_segment()  # what is empty is none
    journal.append({"n": 2})
    assert kept(tmp_path) == {f"000000000001{CLOSED}": [1], f"000000000002{OPEN}": [2]}
    assert journal.waiting() == 1
    (tmp_path / "gateway-1" / f"000000000001{CLOSED}").unlink()  # as the shipper does
    assert (journal.waiting(), journal.shipped()) == (0, 1)
    journal.stop()
    (tmp_path / "gateway-1" / f"000000000002{CLOSED}").unlink()
    assert journal.shipped() == 2


def test_a_full_segment_is_closed_by_itself(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(module, "SEGMENT_RECORDS", 3)
    journal = begun(tmp_path)
    for n in range(7):
        journal.append({"n": n})
    assert kept(tmp_path, CLOSED) == {f"000000000001{CLOSED}": [0, 1, 2], f"000000000002{CLOSED}": [3, 4, 5]}


def test_what_a_killed_gateway_left_open_is_handed_over_and_no_name_is_used_again(tmp_path: Path) -> None:
    killed = begun(tmp_path)
    assert not killed.torn
    killed.append({"n": 1})
    again = begun(tmp_path)
    assert again.torn
    assert kept(tmp_path) == {f"000000000001{CLOSED}": [1]}
    again.append({"n": 2})
    assert kept(tmp_path)[f"000000000002{OPEN}"] == [2]
    again.stop()
    assert not begun(tmp_path).torn


def test_nobody_else_reads_a_segment(tmp_path: Path) -> None:
    journal = begun(tmp_path)
    journal.append({"n": 1})
    (segment,) = (tmp_path / "gateway-1").glob(f"*{OPEN}")
    assert segment.stat().st_mode & 0o077 == 0


def test_half_a_record_is_taken_back_and_the_next_one_stands_whole(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    journal = begun(tmp_path)
    journal.append({"n": 1})
    write = os.write

    def half(descriptor: int, raw: bytes) -> int:
        return write(descriptor, raw[: len(raw) // 2])

    monkeypatch.setattr(module.os, "write", half)
    with pytest.raises(Unwritable, match="only part"):
        journal.append({"n": 2, "long": "x" * 200})
    assert journal.fault and "gateway-1" in journal.fault
    assert kept(tmp_path) == {f"000000000001{OPEN}": [1]}
    monkeypatch.setattr(module.os, "write", write)
    journal.append({"n": 3})
    assert journal.fault is None and kept(tmp_path) == {f"000000000001{OPEN}": [1, 3]}


def test_a_disk_that_is_full_is_a_fault_until_it_takes_something_again(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    journal = begun(tmp_path)

    def full(*_: Any) -> int:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(module.os, "write", full)
    with pytest.raises(Unwritable, match="No space left on device"):
        journal.append({"n": 1})
    monkeypatch.setattr(Path, "write_bytes", full)
    journal.probe()
    assert journal.fault
    monkeypatch.undo()
    journal.probe()
    assert journal.fault is None and not list((tmp_path / "gateway-1").glob("probe"))
    assert kept(tmp_path) == {f"000000000001{OPEN}": []}


def test_forced_to_the_disk_where_a_power_cut_is_to_be_survived(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    forced: list[int] = []
    monkeypatch.setattr(module.os, "fdatasync", forced.append)
    for sync, times in ((False, 0), (True, 2)):
        journal = Journal(tmp_path / f"sync {sync}", sync=sync)
        journal.start()
        journal.append({"n": 1})
        journal.append({"n": 2})
        assert len(forced) == times
