"""What was let in and is not recorded yet is kept across a crash."""

from __future__ import annotations

from pathlib import Path

import pytest

from calm_tariff.gateway.decision_service import promises
from calm_tariff.gateway.decision_service.promises import Promises


def test_promises_survive_a_crash_and_do_not_pile_up(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(promises, "LONGEST", 2000)
    kept = Promises(tmp_path / "promises")
    assert kept.start() == []
    kept.make({"call_id": "open all the time", "told": {}})
    for n in range(500):
        kept.make({"call_id": f"{n}", "told": {"ratelimit": "x"}})
        kept.told(f"{n}")
    assert kept.path.stat().st_size < 4000
    kept.make({"call_id": "last", "told": {}})
    with kept.path.open("ab") as torn:
        torn.write(b'{"call_id": "cut o')  # a crash in the middle of a line
    again = Promises(tmp_path / "promises")
    assert [record["call_id"] for record in again.start()] == ["open all the time", "last"]
