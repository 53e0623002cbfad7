"""Meters are sealed by what is published."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import Conflict, Invalid
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


def test_a_key_is_made_of_a_name_in_any_script_and_names_without_any_letter_have_none(office: Office) -> None:
    operations = meters.one(office.manager, office.meter).operations
    made = meters.create(office.manager, MeterTyped("Überflüge, je Stunde", operations, []))
    assert made.key == "uberfluge_je_stunde"
    with pytest.raises(Conflict) as taken:
        meters.create(office.manager, MeterTyped("Uberfluge je Stunde", operations, []))
    assert taken.value.where == "name"
    with pytest.raises(Invalid, match="letters or digits"):
        meters.create(office.manager, MeterTyped("– –", operations, []))
