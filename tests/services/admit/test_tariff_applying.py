"""A tariff document is applied whole or not at all."""

from __future__ import annotations

from decimal import Decimal

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.routes import Agreement, Route, Rule
from calm_tariff.services.admit import (
    groups,
    tariff_applying,
)
from calm_tariff.services.compose import house_limits, routes, tariff_document
from calm_tariff.services.compose.sheet import plans
from calm_tariff.store.compose.products import Product
from tests.office import Office, terms

TRIAL = {**terms(), "trial": {"days": 14, "units": "20", "meter": "forecast_calls", "then": "charge"}}


def test_a_tariff_goes_out_and_in_again_without_a_difference_and_is_applied_whole_or_not_at_all(office: Office) -> None:
    schools = groups.create(office.manager, "Schools")
    plans.show_to(office.manager, office.plans["Skiff"], [schools.id])
    house_limits.save(
        office.manager,
        None,
        0,
        [{"kind": "pace", "name": "Pace", "counted_per": "everyone", "calls": 90, "per_seconds": 1, "max_wait_ms": 50}],
    )
    stations = str(office.operations["GET /stations"])
    slow = {**terms()["limits"][0], "name": "Slow list", "applies_to": [stations]}
    drafted = {**TRIAL, "overrides": [slow], "notes": "line one\nline two"}
    office.draft("Ketch", drafted)
    text = tariff_document.export(office.manager)
    assert "Tides v1 GET /stations" in text
    assert tariff_document.diff(office.manager, text) == []
    assert tariff_applying.apply(office.manager, text).differences == []
    assert tariff_document.export(office.manager) == text
    dearer = text.replace("amount: '40'", "amount: '45'", 1)
    changes = [(d.where, d.what) for d in tariff_document.diff(office.manager, dearer)]
    assert changes == [("Harbour Data · Ketch", "Fee: €40 a month → €45 a month")]
    with pytest.raises(Conflict, match="say how to publish"):
        tariff_applying.apply(office.manager, dearer)
    wrong = dearer.replace("access: reviewed", "access: open").replace("GET /stations\n", "GET /nowhere\n", 1)
    with pytest.raises(Invalid, match="Tides v1 GET /nowhere"):
        tariff_applying.apply(office.manager, wrong, "keep")
    assert tariff_document.export(office.manager) == text  # refused: nothing is changed
    applied = tariff_applying.apply(office.manager, dearer, "next period")
    assert applied.unpublished == []
    assert tariff_document.export(office.manager) == dearer


def test_a_tariff_brought_into_an_empty_installation_is_the_same_there(office: Office) -> None:
    office.draft("Ketch", TRIAL)
    text = tariff_document.export(office.manager)
    renamed = (
        text.replace("Harbour Data", "Pier Data")
        .replace("forecast_calls", "pier_calls")
        .replace("name: Forecast calls\n  operations", "name: Pier calls\n  operations")
    )
    tariff_applying.apply(office.manager, renamed, "keep")
    again = tariff_document.export(office.manager)
    assert tariff_document.diff(office.manager, renamed) == []
    assert "name: Pier Data" in again


def test_who_decides_goes_along_by_names_and_finds_plans_that_are_new_there(office: Office) -> None:
    schools = groups.create(office.manager, "Schools")
    rules = (
        Rule(step="open", environment="sandbox"),
        Rule(step="reviewed twice", plans=(office.plans["Ketch"],), groups=(schools.id,)),
        Rule(step="outside", meter="forecast_calls", above=Decimal("1000.5")),
    )
    route = Route(otherwise="reviewed", rules=rules, agreements=(Agreement(role="finance", above=Decimal(150)),))
    office.change_product(route=route, target_days=None)
    text = tariff_document.export(office.manager)
    assert tariff_document.diff(office.manager, text) == []
    assert tariff_applying.apply(office.manager, text, "keep").differences == []
    changed = text.replace("step: outside", "step: open").replace("above: '150'", "above: '200'")
    said = [(d.where, d.what) for d in tariff_document.diff(office.manager, changed)]
    assert ("product Harbour Data", "agreements: without role finance, above 150; with role finance, above 200") in said
    tariff_applying.apply(office.manager, text.replace("name: Harbour Data", "name: Pier Data"), "keep")
    with office.ctx.transaction() as session:
        pier = session.scalars(select(Product).where(Product.name == "Pier Data")).one()
        (twice,) = (rule for rule in routes.of(pier).rules if rule.step == "reviewed twice")
        assert [p.name for p in pier.plans if p.id in twice.plans] == ["Ketch"] and pier.target_days is None
    before = tariff_document.export(office.manager)
    with pytest.raises(Invalid) as unknown:
        tariff_applying.apply(office.manager, text.replace("- Ketch", "- Yawl"), "keep")
    assert unknown.value.where == "Harbour Data.access_rules[1].plans"
    assert tariff_document.export(office.manager) == before
