"""A whole month at a quantity, and the allowance that a plan reaches."""

from __future__ import annotations

import itertools
from dataclasses import replace
from datetime import date
from decimal import Decimal
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.curves import charge_at, charge_curve
from calm_tariff.core.estimates import Month, Use, cheapest, estimate, offered, reach, whole_month
from calm_tariff.core.limits import Pace, Quota, Rate, Window
from calm_tariff.core.periods import Period
from calm_tariff.core.prices import Fee, PerUnit, Setup
from calm_tariff.core.rating import Pricing
from calm_tariff.core.terms import PlanTerms
from tests.core.pricings import pricings

PRICING = Pricing(
    prices=(
        Setup(amount=Decimal(99)),
        Fee(amount=Decimal(40)),
        PerUnit(meter="calls", included=Decimal(100), unit=Decimal("0.25")),
    )
)


def month(units: str, start: date = date(2026, 10, 1), end: date = date(2026, 11, 1)) -> Decimal:
    period = Month(period=Period(start, end), currency="EUR", time_zone="Europe/Lisbon")
    return whole_month(PRICING, {"calls": Decimal(units)}, period)


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


MONTH = Month(period=Period(date(2026, 10, 1), date(2026, 11, 1)), currency="EUR", time_zone="Europe/Lisbon")
RATE = Rate(name="Rate", counted_per="key", calls=2, per_seconds=1, burst=5)


def short(terms: PlanTerms, at_once: int = 1, **units: int) -> list[tuple[str, int, int, int]]:
    use = Use(units={m: Decimal(n) for m, n in units.items()}, at_once=at_once, calls=frozenset({"calls", "holds"}))
    found = estimate(terms, use, MONTH)
    assert (found.charge is None) == any(isinstance(s.limit, Quota) for s in found.shortfalls)
    return [(s.limit.name, int(s.wanted), int(s.let_in), s.wait_us) for s in found.shortfalls]


@pytest.mark.parametrize(
    ("every", "let_in"),
    # October in Lisbon has 31 days and an hour more.
    [("month", 10), ("day", 310), ("hour", 7450), ("minute", 447_000), ("week", 44)],
)
def test_an_allowance_lets_in_what_its_windows_of_a_month_hold(every: str, let_in: int) -> None:
    terms = PlanTerms(limits=(quota(10, every=every),))
    assert reach(terms, "calls", MONTH) == let_in
    assert short(terms, calls=let_in) == []
    assert short(terms, calls=let_in + 1) == [("q10", let_in + 1, let_in, 0)]


def test_only_what_refuses_falls_short_and_each_meter_by_itself() -> None:
    terms = PlanTerms(
        limits=(
            quota(10, when_spent="charge"),
            quota(20, when_spent="warn"),
            quota(30, applies_to=("7",)),
            quota(40, meter="tiles"),
            quota(50, meter=None),
        )
    )
    assert short(terms, calls=45, tiles=40) == []
    assert short(terms, calls=45, tiles=41) == [("q40", 41, 40, 0)]
    assert short(terms, calls=45, holds=6, tiles=5000) == [("q40", 5000, 40, 0), ("q50", 51, 50, 0)]
    assert reach(terms, "calls", MONTH) is None and reach(terms, "tiles", MONTH) == 40


def test_the_most_calls_of_a_second_are_decided_by_the_limiter_itself() -> None:
    assert short(PlanTerms(limits=(RATE,)), at_once=5) == []
    assert short(PlanTerms(limits=(RATE,)), at_once=8) == [("Rate", 8, 5, 0)]
    window = Window(name="Window", counted_per="key", calls=3, per_seconds=10, rolling=True)
    assert short(PlanTerms(limits=(RATE, window)), at_once=8) == [("Window", 8, 3, 0)]
    pace = Pace(name="Pace", counted_per="key", calls=20, per_seconds=1, max_wait_ms=300)
    assert short(PlanTerms(limits=(pace,)), at_once=1) == []
    assert short(PlanTerms(limits=(pace,)), at_once=7) == [("Pace", 7, 7, 300_000)]
    assert short(PlanTerms(limits=(pace,)), at_once=8) == [("Pace", 8, 7, 0)]
    assert short(PlanTerms(limits=(replace(RATE, applies_to=("7",)),)), at_once=900) == []


@given(st.lists(pricings, min_size=1, max_size=3), st.lists(st.none() | st.integers(1, 5000), min_size=3, max_size=3))
def test_each_stretch_names_the_plan_that_an_invoice_would_make_the_cheapest(plans, reaches) -> None:
    terms = [
        PlanTerms(pricing=plan, limits=(quota(most, meter="m"),) if most else ())
        for plan, most in zip(plans, reaches, strict=False)
    ]
    use = Use(units={"m": Decimal(0), "other": Decimal(3)})
    stretches = cheapest([offered(t, use, MONTH, "m", 6000) for t in terms])
    assert stretches[0].start == 0 and stretches[-1].end == 6000
    assert all(one.end == other.start and one.place != other.place for one, other in itertools.pairwise(stretches))
    for stretch in stretches:
        for units in {int(stretch.start) + 1, int(stretch.start + stretch.end) // 2, int(stretch.end)}:
            if not stretch.start < units <= stretch.end:
                continue
            charges = [estimate(t, Use(units={"m": Decimal(units), "other": Decimal(3)}), MONTH).charge for t in terms]
            reached = [charge for charge in charges if charge is not None]
            if stretch.place is None:
                assert reached == []
            else:
                found = charges[stretch.place]
                assert found is not None and found <= min(reached) + Decimal("0.06")  # an invoice rounds its lines


@given(pricings, pricings, st.integers(0, 3000), st.integers(0, 3000))
def test_a_curve_over_one_meter_holds_the_others_as_they_are(plan: Pricing, second: Pricing, m: int, n: int) -> None:
    other = replace(second.prices[1], meter="n")
    both = replace(plan, prices=(*plan.prices, other))
    exact = charge_at(charge_curve(both, "m", 6000, {"n": Decimal(n)}), m)
    charged = whole_month(both, {"m": Decimal(m), "n": Decimal(n)}, MONTH)
    assert abs(Fraction(charged) - exact) <= Fraction(4, 100)


def test_a_plan_that_refuses_the_other_units_is_nowhere_the_cheapest() -> None:
    free = PlanTerms(limits=(quota(10, meter="tiles"),))
    paid = PlanTerms(pricing=PRICING)
    use = Use(units={"calls": Decimal(5), "tiles": Decimal(11)})
    plans = [offered(t, use, MONTH, "calls", 1000) for t in (free, paid)]
    assert [(s.place, int(s.end)) for s in cheapest(plans)] == [(1, 1000)]
    fits = Use(units={"calls": Decimal(5), "tiles": Decimal(10)})
    plans = [offered(t, fits, MONTH, "calls", 1000) for t in (free, paid)]
    assert [(s.place, int(s.end)) for s in cheapest(plans)] == [(0, 1000)]
    assert cheapest([]) == []
