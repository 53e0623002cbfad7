"""What a caller gets in the end."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import Invalid, Stale
from calm_tariff.services.compose import effective_limits, house_limits
from tests.office import Office, terms


def test_what_a_caller_gets_names_the_layer_of_every_limit(office: Office) -> None:
    house = [{"kind": "rate", "name": "Rate", "counted_per": "everyone", "calls": 50, "per_seconds": 1, "burst": 50}]
    house_limits.save(office.manager, office.api, 0, house)
    with pytest.raises(Stale):
        house_limits.save(office.manager, office.api, 0, [])
    quota = [{**terms()["limits"][1], "name": "All"}]
    with pytest.raises(Invalid, match="allowances belong to plans"):
        house_limits.save(office.manager, None, 0, quota)
    stations = str(office.operations["GET /stations"])
    slow = {**terms()["limits"][0], "name": "Slow list", "calls": 1, "burst": 2, "applies_to": [stations]}
    office.draft("Ketch", {**terms(), "overrides": [slow]})
    shown = effective_limits.what_a_caller_gets(office.manager, office.plans["Ketch"], draft=True)
    rows = [([label.split()[-1] for label in r.operations], [(e.layer, e.name) for e in r.limits]) for r in shown.rows]
    counted = ["/stations/{id}", "/stations/{id}/tides"]
    assert rows == [
        (["/stations"], [("api", "Rate"), ("plan", "Rate"), ("operation", "Slow list")]),
        (counted, [("api", "Rate"), ("plan", "Rate"), ("plan", "Forecast calls")]),
    ]
