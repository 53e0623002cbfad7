"""Meters are sealed by what is published."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import Conflict
from calm_tariff.services.compose import meters
from calm_tariff.services.compose.meters import MeterTyped
from tests.office import Office


def test_a_published_meter_is_sealed_and_can_only_be_renamed(office: Office) -> None:
    meter = meters.one(office.manager, office.meter)
    assert meter.sealed_at
    with pytest.raises(Conflict, match="sealed"):
        meters.save(office.manager, meter.id, meter.edition, MeterTyped(meter.name, meter.operations, []))
    renamed = meters.save(
        office.manager, meter.id, meter.edition, MeterTyped("Forecasts", meter.operations, meter.outcomes)
    )
    assert (renamed.name, renamed.key) == ("Forecasts", "forecast_calls")
