"""A whole month at a quantity, and the allowance that a plan reaches."""

from __future__ import annotations

from datetime import date
from decimal import Decimal

import pytest

from calm_tariff.core.estimates import whole_month
from calm_tariff.core.limits import Quota
from calm_tariff.core.periods import Period
from calm_tariff.core.prices import Fee, PerUnit, Setup
from calm_tariff.core.rating import Pricing
from calm_tariff.core.terms import PlanTerms

PRICING = Pricing(
    prices=(
        Setup(amount=Decimal(99)),
        Fee(amount=Decimal(40)),
        PerUnit(meter="calls", included=Decimal(100), unit=Decimal("0.25")),
    )
)


def month(units: str, start: date = date(2026, 10, 1), end: date = date(2026, 11, 1)) -> Decimal:
    return whole_month(
        pricing=PRICING,
        meter="calls",
        units=Decimal(units),
        currency="EUR",
        time_zone="Europe/Lisbon",
        month=Period(start, end),
    )


def test_a_whole_month_is_rated_as_an_invoice_without_the_beginning_and_without_tax() -> None:
    assert [month(units) for units in ("0", "100", "101", "104.5")] == [
        Decimal("40.00"),
        Decimal("40.00"),
        Decimal("40.25"),
        Decimal("41.13"),
    ]
    # October is an hour longer in Lisbon, and still one month.
    assert month("101", date(2026, 2, 1), date(2026, 3, 1)) == month("101")


def quota(units: int, **more: object) -> Quota:
    given = {
        "name": f"q{units}",
        "counted_per": "subscription",
        "units": units,
        "every": "month",
        "aligned": "calendar",
        "when_spent": "refuse",
        "meter": "calls",
        **more,
    }
    return Quota(**given)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("limits", "reach"),
    [
        ((), None),
        ((quota(500), quota(300)), Decimal(300)),
        ((quota(500, when_spent="charge"), quota(10, every="day"), quota(7, meter="tiles")), None),
        ((quota(7, meter=None),), None),
    ],
)
def test_a_plan_reaches_as_far_as_its_tightest_monthly_allowance_that_refuses(limits, reach) -> None:
    assert PlanTerms(limits=limits).reach("calls") == reach
