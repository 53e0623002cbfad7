"""A tariff sheet's rows: what stands in them, what a draft changes, and that every action offered makes good terms."""

from __future__ import annotations

from dataclasses import replace
from decimal import Decimal
from typing import Any

import pytest

from calm_tariff.core import terms as rules
from calm_tariff.core.limits import Quota, Rate, Window
from calm_tariff.core.prices import Fee, Graduated, PerUnit, Setup, Tier
from calm_tariff.core.rating import Pricing
from calm_tariff.core.sheet_cells import Column, SheetAction, words_of
from calm_tariff.core.sheet_rows import NamedMeter, Vocabulary, differences, rows
from calm_tariff.core.terms import PlanTerms, Trial
from calm_tariff.formats.values import read, write

SPOKEN = Vocabulary(
    [NamedMeter("forecasts", "Forecast calls"), NamedMeter("tiles", "Tiles")],
    "EUR",
    [("1", "GET /tides"), ("2", "GET /tiles")],
)
RATE = Rate(name="Rate", counted_per="key", calls=5, per_seconds=1, burst=10)
QUOTA = Quota(
    name="Forecast calls",
    counted_per="subscription",
    units=1000,
    every="month",
    aligned="calendar",
    when_spent="refuse",
    meter="forecasts",
)
FULL = PlanTerms(
    limits=(RATE, QUOTA, Window(name="Window", counted_per="consumer", calls=50, per_seconds=60, rolling=True)),
    overrides=(replace(RATE, name="Tiles alone", applies_to=("2",)),),
    trial=Trial(days=14, units=Decimal(100), meter="forecasts", then="charge"),
    pricing=Pricing(
        prices=(
            Setup(amount=Decimal(99)),
            Fee(amount=Decimal(40)),
            PerUnit(meter="tiles", unit=Decimal("0.002")),
            Graduated(
                meter="forecasts",
                included=Decimal(10),
                tiers=(
                    Tier(up_to=Decimal(100), unit=Decimal("0.004")),
                    Tier(up_to=None, unit=Decimal("0.003")),
                ),
            ),
        ),
        minimum=Decimal(20),
        cap=Decimal(500),
        discount_percent=Decimal(10),
        tax="exempt",
    ),
    notes="For harbours.",
    notice_days=30,
)
METERS = frozenset({"forecasts", "tiles"})


def cells(terms: PlanTerms, live: PlanTerms | None = None) -> dict[str, Any]:
    return {f"{row.group}/{row.label}": row.cells[0] for row in rows([Column(7, terms, live)], SPOKEN)}


def test_every_term_of_a_plan_stands_in_its_row_and_nothing_stands_twice() -> None:
    said = {name: words_of(cell) for name, cell in cells(FULL).items()}
    assert said["Speed/Rate"] == "5 calls a second, up to 10 at once, for each key"
    assert said["Allowance/Forecast calls"] == "1,000 a month, then refuse, for each subscription"
    assert said["Single operations/Overrides"].startswith("on GET /tiles: 5 calls a second")
    assert said["Price/Trial"] == "14 days free, or until 100 Forecast calls are used, then the charges begin"
    assert said["Price/Tiles"] == "0 included, then €0.002 each"
    assert said["Price/Discount"] == "10% off fee and usage" and said["Price/Tax"] == "exempt from tax"
    assert said["Price/At least"] == "€20 a month" and said["Notes/Notes"] == "For harbours."
    assert said["Leaving/Notice"] == "ended with 30 days' notice"
    assert {name for name, words in said.items() if not words} == {"Speed/Pace", "Allowance/Tiles"}
    assert {name: cell.absent for name, cell in cells(PlanTerms()).items()} == {
        "Speed/Rate": "none",
        "Speed/Window": "none",
        "Speed/Pace": "none",
        "Allowance/Forecast calls": "no allowance",
        "Allowance/Tiles": "no allowance",
        "Single operations/Overrides": "none",
        "Price/Trial": "none",
        "Price/Setup": "none",
        "Price/Fee": "free",
        "Price/Forecast calls": "not sold beyond the allowance",
        "Price/Tiles": "not sold beyond the allowance",
        "Price/At least": "no minimum",
        "Price/At most": "no cap",
        "Price/Discount": "none",
        "Price/Tax": "tax is added",
        "Leaving/Notice": "at once, or with the month",
        "Notes/Notes": "none",
    }


def test_only_what_a_draft_changes_is_marked_with_what_it_was() -> None:
    draft = replace(FULL, limits=(replace(RATE, burst=40), *FULL.limits[1:]), notes="")
    changed = {name: cell for name, cell in cells(draft, FULL).items() if cell.changed}
    assert {name: cell.was for name, cell in changed.items()} == {
        "Speed/Rate": ["up to 10 at once"],
        "Notes/Notes": ["For harbours."],
    }
    marked = [part.text for part in changed["Speed/Rate"].sentences[0] if part.changed]
    assert marked == ["40"]
    assert differences(Column(7, draft, FULL), SPOKEN) == [
        ("Rate", "up to 10 at once", "up to 40 at once"),
        ("Notes", "For harbours.", "none"),
    ]


def put(terms: PlanTerms, action: SheetAction) -> PlanTerms:
    """Terms with an action done to them, as the browser does it."""
    whole = write(terms)
    *way, last = action.path.split(".")
    place: Any = whole
    for step in way:
        place = place[int(step)] if isinstance(place, list) else place[step]
    value = write(action.value)
    if isinstance(place, list):
        if last == "-":
            place.append(value)
        elif value is None:
            del place[int(last)]
        else:
            place[int(last)] = value
    else:
        place[last] = value
    return read(PlanTerms, whole)


def offered(terms: PlanTerms) -> list[tuple[str, SheetAction]]:
    return [(f"{name}: {action.label}", action) for name, cell in cells(terms).items() for action in cell.actions]


@pytest.mark.parametrize("terms", [PlanTerms(), FULL], ids=["empty", "full"])
def test_whatever_a_cell_offers_makes_terms_that_can_be_kept_and_read_again(terms: PlanTerms) -> None:
    done = 0
    for label, action in offered(terms):
        if action.opens:
            continue  # an editor makes the value
        changed = put(terms, action)
        rules.check(changed, METERS)
        assert changed != terms, label
        done += 1
    assert done >= 20
