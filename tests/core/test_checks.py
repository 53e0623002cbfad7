"""Each mistake a sheet can be told of, planted once; and a sheet without mistakes is told nothing."""

from dataclasses import replace
from decimal import Decimal
from typing import Any

import pytest

from calm_tariff.core.checks import CheckedPlan, MeterStanding, Sold, remarks
from calm_tariff.core.limits import Quota, Rate
from calm_tariff.core.prices import Fee, Graduated, Tier, Volume
from calm_tariff.core.rating import Pricing
from calm_tariff.core.terms import PlanTerms

RATE = Rate(name="Rate", counted_per="key", calls=10, per_seconds=1, burst=20)
QUOTA = Quota(
    name="Calls",
    counted_per="subscription",
    units=500_000,
    every="month",
    aligned="calendar",
    when_spent="charge",
    meter="calls",
)
PRICE = Graduated(meter="calls", included=Decimal(1000), tiers=(Tier(up_to=None, unit=Decimal("0.01")),))
METERS = {"calls": MeterStanding("Calls", "active", True)}


def plan(name: str = "Ketch", held: int = 0, fee: int = 40, **changes: Any) -> CheckedPlan:
    limits = changes.pop("limits", (RATE, QUOTA))
    price = changes.pop("price", PRICE)
    terms = PlanTerms(limits=limits, pricing=Pricing(prices=(Fee(amount=Decimal(fee)), price)))
    return CheckedPlan(name, terms, held)


SLOWER = replace(RATE, per_seconds=600)
LESS = replace(QUOTA, units=400_000, when_spent="refuse")
TWO_STEPS = (Tier(up_to=Decimal(200), unit=Decimal("0.08")), Tier(up_to=None, unit=Decimal("0.06")))


@pytest.mark.parametrize(
    ("plans", "meters", "sold", "said"),
    [
        ([plan()], METERS, Sold(), None),
        (
            [plan(price=Volume(meter="calls", tiers=TWO_STEPS))],
            METERS,
            Sold(),
            "Ketch: 200 calls cost €16.00, one more only €12.06 in total.",
        ),
        ([plan(price=Graduated(meter="calls", tiers=TWO_STEPS))], METERS, Sold(), None),
        (
            [plan(limits=(replace(RATE, calls=1, per_seconds=60), QUOTA))],
            METERS,
            Sold(),
            "Ketch can make at most 44,640 calls a month; its allowance of 500,000 is out of reach for one key.",
        ),
        (
            [plan(limits=(RATE, replace(QUOTA, units=1200, when_spent="refuse")))],
            METERS,
            Sold(),
            "Ketch at full rate can spend its month of calls in 2 minutes.",
        ),
        (
            [plan(limits=(SLOWER, replace(QUOTA, units=900, when_spent="refuse")))],
            METERS,
            Sold(),
            "Ketch includes 1,000, more than its allowance of 900.",
        ),
        (
            [plan(), plan("Schooner", fee=90, limits=(RATE, LESS))],
            METERS,
            Sold(),
            "Schooner allows 400,000 calls a month, less than Ketch with 500,000.",
        ),
        (
            [plan(), plan("Schooner", fee=90, limits=(replace(RATE, calls=5), QUOTA))],
            METERS,
            Sold(),
            "Schooner is slower than Ketch.",
        ),
        (
            [plan(), plan("Schooner", fee=90, limits=(replace(RATE, burst=10), QUOTA))],
            METERS,
            Sold(),
            "Schooner takes 10 at once, Ketch 20.",
        ),
        (
            [plan(), plan("Schooner", fee=90, price=replace(PRICE, included=Decimal(10)))],
            METERS,
            Sold(),
            "Schooner includes 10, Ketch 1,000.",
        ),
        ([plan(), plan("Cheaper", fee=10, limits=(replace(RATE, calls=5), QUOTA))], METERS, Sold(), None),
        (
            [plan()],
            {"calls": MeterStanding("Calls", "paused", True)},
            Sold(),
            "Ketch speaks of Calls, which is paused and counts nothing.",
        ),
        (
            [plan()],
            {"calls": MeterStanding("Calls", "active", False)},
            Sold(),
            "Ketch speaks of Calls, which counts nothing that is sold here.",
        ),
        ([plan()], METERS, Sold(("GET /gone",)), "GET /gone is sold, but no call can reach it."),
        (
            [plan(held=3)],
            METERS,
            Sold((), {"Tides v1": 25}),
            "All rates sold on Harbour Data: 30 a second. The back end of Tides v1 takes 25.",
        ),
        ([plan(held=3)], METERS, Sold((), {"Tides v1": 30}), None),
    ],
)
def test_a_planted_mistake_is_named(
    plans: list[CheckedPlan], meters: dict[str, MeterStanding], sold: Sold, said: str | None
) -> None:
    assert remarks("Harbour Data", plans, meters, sold, "EUR") == ([said] if said else [])
