"""Terms that cannot be kept are refused, each by the field that is wrong."""

from dataclasses import replace
from decimal import Decimal
from typing import Any

import pytest

from calm_tariff.core import rating, refusals, terms
from calm_tariff.core.errors import Invalid
from calm_tariff.core.limits import Quota, Rate
from calm_tariff.core.prices import Blocks, Fee, Volume
from calm_tariff.core.rating import Pricing
from calm_tariff.core.terms import PlanTerms, Trial
from tests.core.pricings import UNIT, tier, tiered

RATE = Rate(name="Rate", counted_per="key", calls=10, per_seconds=1, burst=20)
QUOTA = Quota(
    name="Calls",
    counted_per="subscription",
    units=500,
    every="month",
    aligned="calendar",
    when_spent="charge",
    meter="calls",
)
SLOW = replace(RATE, name="Slow search", applies_to=("GET /search",))
SOUND = PlanTerms(
    limits=(RATE, QUOTA),
    overrides=(SLOW,),
    trial=Trial(days=1, units=Decimal("0.5"), meter="calls"),
    pricing=Pricing(prices=(Fee(amount=Decimal(0)), UNIT), minimum=Decimal(0), discount_percent=Decimal(100)),
)


@pytest.mark.parametrize(
    ("changed", "where"),
    [
        ({"limits": (RATE, replace(QUOTA, units=0))}, "limits[1].units"),
        ({"limits": (RATE, replace(RATE, calls=9))}, "limits[1].name"),
        ({"overrides": (replace(RATE, applies_to=("GET /search",)),)}, "overrides[0].name"),  # named as one of the plan
        # What a receipt calls the units of a trial, and what calls are refused by that no limit refused.
        ({"limits": (replace(RATE, name="Units of the trial"),)}, "limits[0].name"),
        *(({"limits": (QUOTA, replace(RATE, name=reason))}, "limits[1].name") for reason in refusals.REASONS),
        ({"overrides": (replace(SLOW, name="pause"),)}, "overrides[0].name"),
        ({"overrides": (replace(RATE, name="Other"),)}, "overrides[0].applies_to"),
        ({"trial": Trial(days=0)}, "trial.days"),
        ({"trial": Trial(days=367)}, "trial.days"),
        ({"trial": Trial(days=30, units=Decimal(5))}, "trial.units"),
        ({"trial": Trial(days=30, meter="calls")}, "trial.units"),
        ({"trial": Trial(days=30, units=Decimal(0), meter="calls")}, "trial.units"),
        ({"pricing": Pricing(prices=(Fee(amount=Decimal("-0.01")),))}, "pricing.prices[0].amount"),
        ({"pricing": Pricing(prices=(UNIT, UNIT))}, "pricing.prices[1].meter"),
        ({"pricing": Pricing(prices=(), cap=Decimal(-1))}, "pricing.cap"),
        ({"pricing": Pricing(prices=(), discount_percent=Decimal("100.01"))}, "pricing.discount_percent"),
        ({"pricing": Pricing(prices=(replace(UNIT, unit=Decimal(-1)),))}, "pricing.prices[0].unit"),
        ({"pricing": Pricing(prices=(replace(UNIT, included=Decimal(-1)),))}, "pricing.prices[0].included"),
        (
            {"pricing": Pricing(prices=(Blocks(meter="calls", block=Decimal(0), amount=Decimal(1)),))},
            "pricing.prices[0].block",
        ),
        ({"pricing": tiered()}, "pricing.prices[0].tiers"),
        ({"pricing": tiered(tier(10))}, "pricing.prices[0].tiers[0].up_to"),
        ({"pricing": tiered(tier(None), tier(None))}, "pricing.prices[0].tiers[0].up_to"),
        ({"pricing": tiered(tier(0), tier(None))}, "pricing.prices[0].tiers[0].up_to"),
        ({"pricing": tiered(tier(10), tier(10), tier(None))}, "pricing.prices[0].tiers[1].up_to"),
        ({"pricing": tiered(tier(10, "-1"), tier(None))}, "pricing.prices[0].tiers[0].unit"),
        ({"pricing": tiered(tier(10), tier(None, flat="-1"))}, "pricing.prices[0].tiers[1].flat"),
        ({"pricing": Pricing(prices=(Volume(meter="bytes", tiers=(tier(None),)),))}, "terms"),  # no such meter
    ],
)
def test_terms_are_refused_by_their_field(changed: dict[str, Any], where: str) -> None:
    terms.check(SOUND, frozenset({"calls"}))  # nothing is wrong with the rest
    with pytest.raises(Invalid) as refused:
        terms.check(replace(SOUND, **changed), frozenset({"calls"}))
    assert refused.value.where == where


def test_which_end_of_the_tiers_is_wrong_is_said() -> None:
    for tiers, words in (
        ((tier(10),), "the last tier has no upper end"),
        ((tier(None), tier(None)), "only the last tier may be without end"),
    ):
        with pytest.raises(Invalid, match=words):
            rating.check_pricing(tiered(*tiers), "pricing")


def test_a_quota_applies_where_its_meter_counts_and_where_it_is_said_to() -> None:
    both, none = replace(QUOTA, applies_to=("GET /a", "GET /z")), replace(QUOTA, meter=None)
    made = terms.bound((QUOTA, both, none, RATE), {"calls": ("GET /a", "GET /b")})
    assert [limit.applies_to for limit in made] == [("GET /a", "GET /b"), ("GET /a",), None, None]
    assert terms.bound((QUOTA,), {})[0].applies_to == ()
