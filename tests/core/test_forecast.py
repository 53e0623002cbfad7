"""Projections, held against the rule as it is written (docs/arithmetic.md, section 4)."""

from decimal import Decimal
from fractions import Fraction
from itertools import pairwise

from hypothesis import example, given
from hypothesis import strategies as st

from calm_tariff.core.forecast import Projection, expected_between, projected
from calm_tariff.core.periods import HOUR

WEEK = 168 * HOUR
NOW = 1_788_300_000_000_000
units = st.decimals(0, 500, places=6)


def as_written(used, quota, window, now, hourly, first) -> Projection:
    """Hour by hour, in fractions: the mean of the same hour of the week over the last four weeks that are known."""
    start, end = window
    expected, spent = Fraction(used), now if used >= quota else None
    steady = Fraction(used) / Fraction(max(now - start, 1), HOUR)
    young = first is None or now - first < WEEK
    hour = now // HOUR * HOUR
    while hour < end:
        share = Fraction(min(hour + HOUR, end) - max(hour, now), HOUR)
        same = [h for h in (hour - WEEK * k for k in range(1, 99)) if h < now // HOUR * HOUR][:4]
        known = [h for h in same if h >= first // HOUR * HOUR] if not young else []
        mean = sum((Fraction(hourly.get(h, 0)) for h in known), Fraction(0)) / len(known) if known else Fraction(0)
        expected += (steady if young else mean) * share
        if spent is None and expected >= quota:
            spent = max(hour, now)
        hour += HOUR
    return Projection(expected, spent)


@given(
    used=units,
    quota=st.decimals(1, 900, places=0),
    before=st.integers(0, 40 * 24 * HOUR),
    after=st.integers(0, 12 * 24 * HOUR),
    off=st.integers(0, HOUR - 1),
    first=st.none() | st.integers(0, 6 * WEEK),
    pattern=st.lists(units, min_size=1, max_size=50),
)
@example(
    used=Decimal(10), quota=Decimal(20), before=10 * HOUR, after=20 * HOUR, off=0, first=None, pattern=[Decimal(1)]
)
def test_a_projection_is_what_the_rule_says(used, quota, before, after, off, first, pattern) -> None:
    now = NOW // HOUR * HOUR + off
    begun = None if first is None else now - first
    # Only hours since the first call have counts; some of them none.
    hours = [] if begun is None else range(begun // HOUR * HOUR, now, HOUR)
    hourly = {h: pattern[n % len(pattern)] for n, h in enumerate(hours) if n % 5}
    asked = (used, quota, (now - before, now + after), now, hourly, begun)
    assert projected(*asked) == as_written(*asked)


@given(
    used=units,
    before=st.integers(0, 40 * 24 * HOUR),
    after=st.integers(0, 12 * 24 * HOUR),
    first=st.none() | st.integers(0, 6 * WEEK),
    cuts=st.lists(st.integers(-3 * 24 * HOUR, 14 * 24 * HOUR), min_size=1, max_size=5),
    pattern=st.lists(units, min_size=1, max_size=50),
)
def test_what_is_expected_in_stretches_adds_up_to_what_is_expected_in_all(
    used, before, after, first, cuts, pattern
) -> None:
    begun = None if first is None else NOW - first
    hours = [] if begun is None else range(begun // HOUR * HOUR, NOW, HOUR)
    hourly = {h: pattern[n % len(pattern)] for n, h in enumerate(hours) if n % 5}
    window = (NOW - before, NOW + after)
    expected = expected_between(used, window, NOW, hourly, begun)
    bounds = sorted([window[0], *(NOW + cut for cut in cuts), window[1] + HOUR])
    parts = [expected(start, end) for start, end in pairwise(bounds)]
    assert all(part >= 0 for part in parts)
    whole = projected(used, Decimal(0), window, NOW, hourly, begun).at_end - Fraction(used)
    assert sum(parts) == whole
    assert expected(window[0], NOW) == 0  # of what is past, none


def test_a_projection_follows_the_hours_of_the_week_once_there_is_a_week() -> None:
    now = NOW // HOUR * HOUR
    window = (now - 10 * HOUR, now + 10 * HOUR)
    young = projected(Decimal(50), Decimal(80), window, now, hourly={}, first_call=now - 10 * HOUR)
    assert (young.at_end, young.spent_at) == (Fraction(100), now + 5 * HOUR)
    hourly = {now + h * HOUR - w * WEEK: Decimal(4) for h in range(10) for w in range(1, 5)}
    old = projected(Decimal(50), Decimal(80), window, now, hourly=hourly, first_call=now - 5 * WEEK)
    assert (old.at_end, old.spent_at) == (Fraction(90), now + 7 * HOUR)
