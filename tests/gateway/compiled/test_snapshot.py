"""What the gateway knows, and how much of it is kept."""

from __future__ import annotations

from calm_tariff.gateway.compiled.snapshot import PLACES_KEPT, Snapshot
from calm_tariff.services.serve.gateway_feed import read_feed
from tests.office import Office

BASE = "/tides/v1"


def test_paths_nobody_serves_are_not_kept_and_those_that_are_served_in_bounds(office: Office) -> None:
    snapshot = Snapshot(read_feed(office.ctx))
    for n in range(1000):
        assert snapshot.place("GET", f"/nothing/{n}/" + "x" * 30_000) is None
        assert snapshot.place("GET", f"{BASE}/stations/{n}/no/such" + "x" * 30_000) is None
        assert snapshot.place("PUT", f"{BASE}/stations/{n}").match.operation_id is None
        assert snapshot.place("GET", f"{BASE}/stations/" + "y" * 30_000 + str(n)) is not None
    assert len(snapshot._places) == 0
    most = 0
    for n in range(30_000):
        assert snapshot.place("GET", f"{BASE}/stations/{n:0900}") is not None
        most = max(most, len(snapshot._places))
    assert 1000 < most <= PLACES_KEPT / 900
    assert snapshot.place("GET", f"{BASE}/stations/x") is snapshot.place("GET", f"{BASE}/stations/x")
