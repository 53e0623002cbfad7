"""Segments are taken in once, whatever dies when."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path
from typing import Any

import pymysql
import pytest
from sqlalchemy import select
from sqlalchemy.exc import OperationalError

from calm_tariff.formats.journal import line
from calm_tariff.services.serve import shipping
from calm_tariff.store.serve.usage import Call
from tests.office import START, Office


def test_a_segment_met_again_after_a_crash_before_its_deletion_adds_nothing(office: Office, tmp_path: Path) -> None:
    folder = tmp_path / "gateway-1"
    folder.mkdir()
    one = office.consumers[0]
    records = [office.call(one, START + timedelta(seconds=n), n) for n in range(30)]
    segment = folder / "000000000001.jsonl"
    segment.write_bytes(b"".join(map(line, records)))
    (folder / "000000000002.open").write_bytes(line(records[0]))
    assert shipping.ship(office.ctx, tmp_path) == shipping.Shipment(1, 30, 0)
    assert not segment.exists()
    segment.write_bytes(b"".join(map(line, records)) + b'{"torn')
    assert shipping.ship(office.ctx, tmp_path) == shipping.Shipment(1, 0, 1)
    assert [p.name for p in sorted(folder.iterdir())] == ["000000000001.damaged", "000000000002.open"]
    with office.ctx.transaction() as session:
        assert len(session.scalars(select(Call)).all()) == 30


def test_a_segment_whose_shipping_met_a_deadlock_is_shipped_all_the_same(
    office: Office, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = tmp_path / "gateway-1"
    folder.mkdir()
    one = office.consumers[0]
    for n in (1, 2):
        (folder / f"00000000000{n}.jsonl").write_bytes(line(office.call(one, START + timedelta(seconds=n), n)))
    met: list[Path] = []
    take_in = shipping.record

    def in_the_way(*what: Any) -> Any:
        met.append(folder)
        if len(met) in (1, 3):
            raise OperationalError("insert", {}, pymysql.err.OperationalError(1213, "Deadlock found"))
        return take_in(*what)

    monkeypatch.setattr(shipping, "record", in_the_way)
    assert shipping.ship(office.ctx, tmp_path) == shipping.Shipment(2, 2, 0)
    assert len(met) == 4 and list(folder.iterdir()) == []
