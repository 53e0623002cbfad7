"""What each plan of a product would cost at a use, and what it would refuse."""

from __future__ import annotations

from decimal import Decimal

import pytest

from calm_tariff.core.errors import Invalid, NotFound
from calm_tariff.services.admit.portals import estimator
from calm_tariff.services.admit.portals.estimator import Estimates
from tests.office import Office

SLUG = "harbour-data"


def at(office: Office, units: int | str, at_once: int = 1) -> Estimates:
    return estimator.estimates(office.ctx, SLUG, {"forecast_calls": Decimal(units)}, at_once)


@pytest.mark.parametrize(
    ("units", "charges", "cheapest", "short"),
    [
        (5, {"Skiff": Decimal(0), "Ketch": Decimal(40)}, {"Skiff"}, {}),
        # 10 included; 20 at 0.004 each and the rest at 0.003: 0.08 + 0.03, rounded to the cent on its own line.
        (
            40,
            {"Skiff": None, "Ketch": Decimal("40.11")},
            {"Ketch"},
            {"Skiff": "30 of your 40 forecast calls a month, then refused"},
        ),
        (
            101,
            {"Skiff": None, "Ketch": None},
            set(),
            {
                "Skiff": "30 of your 101 forecast calls a month, then refused",
                "Ketch": "100 of your 101 forecast calls a month, then refused",
            },
        ),
    ],
)
def test_each_plan_says_what_a_month_costs_or_what_it_would_refuse(
    office: Office, units: int, charges: dict, cheapest: set[str], short: dict[str, str]
) -> None:
    found = at(office, units)
    assert {plan.plan: plan.charge for plan in found.plans} == charges
    assert {plan.plan for plan in found.plans if plan.cheapest} == cheapest
    assert {plan.plan: plan.shortfalls[0] for plan in found.plans if plan.shortfalls} == short


def test_the_next_plan_begins_where_the_one_before_reaches_no_further_and_curves_end_there(office: Office) -> None:
    skiff, ketch = at(office, 5).plans
    assert (skiff.cheapest_from, ketch.cheapest_from) == (None, 31)
    assert [point.units for point in skiff.points][-1] == 30 and [point.units for point in ketch.points][-1] == 100
    assert (ketch.points[0].charge, ketch.points[-1].charge) == (40, Decimal("40.29"))
    assert at(office, 31).plans[1].cheapest_from is None  # it begins where one is


def test_the_most_calls_of_a_second_are_held_against_each_plan(office: Office) -> None:
    skiff, ketch = at(office, 5, at_once=6).plans
    assert skiff.shortfalls == [
        "of 6 calls in one second 1 may be refused: 2 calls a second, up to 5 at once, for each key"
    ]
    assert ketch.shortfalls == [] and skiff.charge == 0  # a burst is no reason not to reach a month


def test_without_a_word_on_a_meter_it_is_asked_about_what_is_usual(office: Office) -> None:
    found = estimator.estimates(office.ctx, SLUG, {})
    assert [(meter.key, meter.name, meter.units) for meter in found.meters] == [
        ("forecast_calls", "Forecast calls", 50)  # five times what is included
    ]
    assert (found.at_once, found.along, found.top) == (1, "forecast_calls", 1000)


@pytest.mark.parametrize(
    ("units", "at_once", "along", "field"),
    [
        ({"forecast_calls": Decimal(-1)}, 1, None, "use.forecast_calls"),
        ({"forecast_calls": Decimal(10**12 + 1)}, 1, None, "use.forecast_calls"),
        ({"forecast_calls": Decimal("NaN")}, 1, None, "use.forecast_calls"),
        ({"tiles": Decimal(1)}, 1, None, "use"),
        ({}, 1, "tiles", "use"),
        ({}, 0, None, "at_once"),
        ({}, 1001, None, "at_once"),
    ],
)
def test_a_use_that_is_none_is_refused_by_its_field(
    office: Office, units: dict[str, Decimal], at_once: int, along: str | None, field: str
) -> None:
    with pytest.raises(Invalid) as refused:
        estimator.estimates(office.ctx, SLUG, units, at_once, along)
    assert refused.value.where == field


def test_a_product_that_is_hidden_has_no_estimate(office: Office) -> None:
    with pytest.raises(NotFound):
        estimator.estimates(office.ctx, "never-was", {})
