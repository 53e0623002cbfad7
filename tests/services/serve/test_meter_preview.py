"""A meter held against recorded history."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from decimal import Decimal

import pytest

from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.services.compose import meters
from calm_tariff.services.compose.meters import MeterTyped
from calm_tariff.services.serve import history, meter_preview
from tests.office import START, Office


def test_a_meter_is_tried_on_history_and_its_pause_says_whose_charges_change(office: Office) -> None:
    one = office.consumers[0]
    calls = [
        office.call(one, START - timedelta(hours=n), n, status=200 if n % 3 else 404, bytes_out=500, units={})
        for n in range(9)
    ]
    calls.append(office.call(one, START, 50, operation_id=office.operations["GET /stations"], units={}))
    history.take_in(office.ctx, calls)
    counted = [office.operations["GET /stations/{id}"]]
    tried = meter_preview.preview(office.manager, MeterTyped("", counted, ["2xx"], "bytes_out"))
    mb = Decimal("0.003")
    assert (tried.served, tried.matched, tried.units, sum(d.units for d in tried.days)) == (10, 6, mb, mb)
    # The kept meter counts 2xx of the same operation; three 404s and the list of stations are counted by none.
    assert tried.uncounted == 4
    assert [(c.consumer, c.units) for c in tried.consumers] == [("Ferries", mb)]
    assert meter_preview.preview(office.manager, MeterTyped("", counted, [], "calls")).uncounted == 1
    assert (
        meter_preview.preview(office.manager, MeterTyped("", counted, [], "reported", header="X-Tiles")).units is None
    )
    assert [d.consumer for d in meters.dependents(office.manager, office.meter)] == ["Ferries", "Kayaks"]
    assert meters.set_state(office.manager, office.meter, "paused").state == "paused"
    both = office.operations["GET /stations/{id}/tides"]
    clone = meters.clone(office.manager, office.meter, "Forecast megabytes")
    assert (clone.key, clone.sealed_at, clone.operations) == ("forecast_megabytes", None, [*counted, both])
    with pytest.raises(Invalid, match="response header"):
        meters.create(office.manager, MeterTyped("Tiles", counted, [], "reported"))


def test_what_a_paused_meter_would_have_counted_is_counted_by_none(office: Office) -> None:
    one = office.consumers[0]
    history.take_in(office.ctx, [office.call(one, START - timedelta(hours=n), n, units={}) for n in range(6)])
    nothing = MeterTyped("", [office.operations["GET /stations"]], [], "calls")
    assert (
        meter_preview.preview(office.manager, nothing).matched,
        meter_preview.preview(office.manager, nothing).uncounted,
    ) == (
        0,
        0,
    )
    meters.set_state(office.manager, office.meter, "paused")
    assert meter_preview.preview(office.manager, nothing).uncounted == 6
    with pytest.raises(Conflict):
        meters.set_state(office.manager, office.meter, "paused")
    # Asked for the meter itself, it is the typed one that counts.
    again = replace(nothing, operations=[office.operations["GET /stations/{id}"]])
    assert meter_preview.preview(office.manager, again, office.meter).uncounted == 0
