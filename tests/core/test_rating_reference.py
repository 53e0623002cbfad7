"""Thousands of made-up charges agree with a computation that shares nothing with `core`, to the last cent."""

import json
from datetime import datetime, timedelta
from decimal import Decimal
from functools import cache
from zoneinfo import ZoneInfo

from hypothesis import given, settings
from hypothesis import strategies as st

from calm_tariff.formats.cases import rate_text
from tests.core import rating_reference

PERIODS = [
    ("2026-09-01", "2026-10-01"),
    ("2026-10-01", "2026-11-01"),
    ("2026-03-01", "2026-04-01"),
    ("2028-02-01", "2028-03-01"),
]
ZONES = ["Europe/Lisbon", "America/New_York", "Asia/Kathmandu", "Australia/Lord_Howe"]


# Strategies are made once: making them costs more than drawing from them, and both more than rating.
WHETHER = st.booleans()
PLACES = [st.integers(0, 2), st.integers(0, 6)]
MODELS = st.sampled_from(["per_unit", "graduated", "volume", "blocks"])
BOUNDS = st.sets(st.integers(1, 4000), max_size=3)
METERS = st.lists(st.sampled_from("abc"), max_size=3, unique=True)
# Cuts at midnights and between them, some before or after the period, some at one and the same instant.
MINUTES = st.one_of(st.integers(0, 38 * 1440), st.integers(0, 38).map(lambda days: days * 1440))
CUTS = st.lists(MINUTES, min_size=1, max_size=4)


@cache
def number(low: int, high: int, places: int) -> st.SearchStrategy[str]:
    whole = st.integers(low * 10**places, high * 10**places)
    return whole.map(lambda n: format(Decimal(n).scaleb(-places), "f"))


@st.composite
def usage_prices(draw: st.DrawFn, meter: str) -> dict:
    model = draw(MODELS)
    price = {"kind": "usage", "meter": meter, "model": model, "included": draw(number(0, 900, draw(PLACES[0])))}
    if model == "per_unit":
        return price | {"unit": draw(number(0, 2, 5))}
    if model == "blocks":
        return price | {"block": draw(number(1, 400, 1)), "amount": draw(number(0, 30, 4))}
    bounds = [str(b) for b in sorted(draw(BOUNDS))]
    tiers = []
    for bound in [*bounds, None]:
        tier = {"up_to": bound, "unit": draw(number(0, 1, 6))}
        tiers.append(tier | ({"flat": draw(number(0, 9, 3))} if draw(WHETHER) else {}))
    return price | {"tiers": tiers}


@st.composite
def plans(draw: st.DrawFn) -> dict:
    prices = [draw(USAGE[meter]) for meter in draw(METERS)]
    if draw(WHETHER):
        prices.insert(0, {"kind": "fee", "amount": draw(number(0, 90, 3))})
    if draw(WHETHER):
        prices.insert(0, {"kind": "setup", "amount": draw(number(0, 50, 2))})
    return {
        "prorate": draw(WHETHER),
        "prices": prices,
        "minimum": draw(MINIMUM),
        "cap": draw(CAP),
        "discount_percent": draw(DISCOUNT),
    }


USAGE = {meter: usage_prices(meter) for meter in "abc"}
MINIMUM, CAP, DISCOUNT = (st.none() | number(0, 80, 2), st.none() | number(0, 300, 2), st.just("0") | number(0, 100, 2))
PLAN = plans()


@st.composite
def cases(draw: st.DrawFn) -> dict:
    first, after = draw(st.sampled_from(PERIODS))
    where = ZoneInfo(draw(st.sampled_from(ZONES)))
    begin = datetime.fromisoformat(first).replace(tzinfo=where) - timedelta(days=3)
    cuts = [begin + timedelta(minutes=m) for m in sorted(draw(CUTS))]
    trial = draw(WHETHER)
    segments = []
    for place, start in enumerate(cuts):
        last = place == len(cuts) - 1
        end = None if last and draw(WHETHER) else begin + timedelta(days=40) if last else cuts[place + 1]
        segments.append(
            {
                "start": start.isoformat(),
                "end": end and end.isoformat(),
                "trial": trial and place == 0,
                "first": place == int(trial),
                "plan": draw(PLAN),
                "usage": {meter: draw(number(0, 9000, draw(PLACES[1]))) for meter in "abc"},
            }
        )
    return {
        "currency": draw(st.sampled_from(["EUR", "JPY", "KWD"])),
        "time_zone": where.key,
        "period": {"start": first, "end": after},
        "tax_percent": draw(number(0, 30, 2)),
        "segments": segments,
    }


@settings(max_examples=600)
@given(cases())
def test_a_charge_is_what_the_words_of_the_rules_come_to(case: dict) -> None:
    answered = rate_text(json.dumps(case))
    lines = [{name: line[name] for name in ("segment", "kind", "meter", "amount")} for line in answered["lines"]]
    wanted = rating_reference.charge(case)
    assert lines == wanted["lines"]
    assert [answered[name] for name in ("subtotal", "tax", "total")] == [
        wanted[name] for name in ("subtotal", "tax", "total")
    ]
