"""What cannot be kept, counted or computed is refused, each by the field that is wrong."""

from dataclasses import replace
from datetime import UTC, datetime
from decimal import Decimal
from typing import Any

import pytest

from calm_tariff.core import meters, rating, terms
from calm_tariff.core.errors import Invalid
from calm_tariff.core.limits import Quota, Rate
from calm_tariff.core.meters import Meter
from calm_tariff.core.periods import Period
from calm_tariff.core.prices import Blocks, Fee, Graduated, PerUnit, Tier, Volume
from calm_tariff.core.rating import Pricing, RatingCase, Segment
from calm_tariff.core.terms import PlanTerms, Trial

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
UNIT = PerUnit(meter="calls", unit=Decimal("0.01"))
SOUND = PlanTerms(
    limits=(RATE, QUOTA),
    overrides=(replace(RATE, name="Slow search", applies_to=("GET /search",)),),
    trial=Trial(days=1, units=Decimal("0.5"), meter="calls"),
    pricing=Pricing(prices=(Fee(amount=Decimal(0)), UNIT), minimum=Decimal(0), discount_percent=Decimal(100)),
)


def tiered(*tiers: Tier) -> Pricing:
    return Pricing(prices=(Graduated(meter="calls", tiers=tiers),))


def tier(up_to: int | None, unit: str = "1", flat: str = "0") -> Tier:
    return Tier(up_to=None if up_to is None else Decimal(up_to), unit=Decimal(unit), flat=Decimal(flat))


@pytest.mark.parametrize(
    ("changed", "where"),
    [
        ({"limits": (RATE, replace(QUOTA, units=0))}, "limits[1].units"),
        ({"limits": (RATE, replace(RATE, calls=9))}, "limits[1].name"),
        ({"overrides": (replace(RATE, applies_to=("GET /search",)),)}, "overrides[0].name"),  # named as one of the plan
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


METER = Meter(key="m", operations=frozenset({"GET /t"}), outcomes=("2xx", "100", "599"), credentials=("key", "token"))


@pytest.mark.parametrize(
    ("changed", "where"),
    [
        ({"operations": frozenset()}, "operations"),
        ({"environments": ()}, "environments"),
        ({"credentials": ("key", "ring")}, "credentials"),
        ({"measure": "reported"}, "header"),
        ({"header": "Units"}, "header"),
        *(({"outcomes": (wrong,)}, "outcomes") for wrong in ("6xx", "99", "600", "2x", "")),
    ],
)
def test_a_meter_that_could_never_count_is_refused_by_its_field(changed: dict[str, Any], where: str) -> None:
    meters.check(METER)
    meters.check(replace(METER, measure="reported", header="Units"))
    with pytest.raises(Invalid) as refused:
        meters.check(replace(METER, **changed))
    assert refused.value.where == where


def at(day: int, zone: Any = UTC) -> datetime:
    return datetime(2026, 9, day, tzinfo=zone)


def case(segment: dict[str, Any], **changed: Any) -> RatingCase:
    stretch = {"start": at(1), "end": at(2), "plan": Pricing(prices=(UNIT,)), **segment}
    whole = {
        "currency": "EUR",
        "time_zone": "Europe/Lisbon",
        "period": Period(at(1), at(30)),
        "tax_percent": Decimal(23),
    }
    return RatingCase(**{**whole, **changed}, segments=(Segment(**stretch),))


@pytest.mark.parametrize(
    ("segment", "changed", "where"),
    [
        ({}, {"period": Period(at(1), at(1))}, "period.end"),
        ({}, {"tax_percent": Decimal("-0.1")}, "tax_percent"),
        ({"start": at(1, None)}, {}, "segments[0].start"),
        ({"end": at(2, None)}, {}, "segments[0].end"),
        ({"start": at(3)}, {}, "segments[0].end"),
        ({"usage": {"calls": Decimal(-1)}}, {}, "segments[0].usage.calls"),
        ({"plan": tiered(tier(10))}, {}, "segments[0].plan.prices[0].tiers[0].up_to"),
        ({}, {"currency": "XXQ"}, "currency"),
        ({}, {"time_zone": "Europe/Larkmouth"}, "time_zone"),
    ],
)
def test_a_case_that_cannot_be_computed_is_refused_by_its_field(segment, changed, where: str) -> None:
    assert rating.rate(case({})).total == 0
    with pytest.raises(Invalid) as refused:
        rating.rate(case(segment, **changed))
    assert refused.value.where == where


AT = frozenset({"GET /a"})


@pytest.mark.parametrize(
    ("meter", "credential", "cost"),
    [
        (Meter(key="a", operations=AT), "key", (1, False)),
        (Meter(key="a", operations=AT, outcomes=("2xx",)), "key", (1, True)),
        (Meter(key="a", operations=AT, measure="bytes_out"), "key", (0, True)),
        (Meter(key="a", operations=AT, measure="reported", header="Units"), "key", (0, True)),
        (Meter(key="a", operations=AT, credentials=("token",)), "token", (1, False)),
        (Meter(key="a", operations=AT, credentials=("token",)), "key", None),
        (Meter(key="a", operations=AT, environments=("sandbox",)), "key", None),
        (Meter(key="a", operations=frozenset({"GET /b"})), "key", None),
    ],
)
def test_what_a_call_takes_from_quotas_until_its_response_is_in(meter: Meter, credential: str, cost) -> None:
    other = Meter(key="other", operations=AT)
    of = meters.costs_of((other, meter), "GET /a", "live", credential).of
    assert (of.get("a"), of["other"], of[None]) == (cost, (1, False), (1, False))
    assert meters.costs_of((other, meter), "GET /a", "live", credential).of is of  # told apart by identity


def test_a_quota_applies_where_its_meter_counts_and_where_it_is_said_to() -> None:
    both, none = replace(QUOTA, applies_to=("GET /a", "GET /z")), replace(QUOTA, meter=None)
    made = terms.bound((QUOTA, both, none, RATE), {"calls": ("GET /a", "GET /b")})
    assert [limit.applies_to for limit in made] == [("GET /a", "GET /b"), ("GET /a",), None, None]
    assert terms.bound((QUOTA,), {})[0].applies_to == ()


@pytest.mark.parametrize(
    ("told", "units", "flagged"),
    [
        ("10", "10", False),
        (" 2.5 ", "2.5", False),
        ("0.0000005", "0.000001", False),
        ("1_0", "0", True),
        ("1" + "0" * 22, "0", True),
        ("1e3", "0", True),
        ("-1", "0", True),
        ("NaN", "0", True),
        ("٣", "0", True),
        ("", "0", True),
        (None, "0", True),
    ],
)
def test_a_reported_number_is_counted_as_it_reads_or_flagged(told: str | None, units: str, flagged: bool) -> None:
    meter = Meter(key="a", operations=AT, measure="reported", header="Units")
    read = meters.reading(meter, meters.Outcome("GET /a", 200, reported=told))
    assert read == meters.Reading(Decimal(units), flagged)
