"""Properties of charges, the charge curve, late usage, and the local calendar."""

import itertools
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core import curves, forecast, late
from calm_tariff.core.errors import Invalid
from calm_tariff.core.ids import call_id, instant_in
from calm_tariff.core.limits import Quota
from calm_tariff.core.meters import Meter, Outcome, check, reading
from calm_tariff.core.money import rounded
from calm_tariff.core.periods import (
    HOUR,
    MINUTE,
    SECOND,
    Period,
    calendar_window,
    instant_of,
    moment_of,
    month_of,
    subscription_window,
    zone,
)
from calm_tariff.core.prices import Blocks, Fee, Graduated, PerUnit, Setup, Tier, Volume, cost
from calm_tariff.core.rating import Pricing, RatingCase, Segment, rate, share_of
from calm_tariff.core.sentences import limit_sentence, price_sentence, words

LISBON = zone("Europe/Lisbon")
money = st.decimals(0, 50, places=4)
small = st.decimals(0, 2, places=5)


@st.composite
def tiers(draw: st.DrawFn) -> tuple[Tier, ...]:
    ends = sorted(draw(st.sets(st.integers(1, 5000), max_size=3)))
    return tuple(Tier(up_to=Decimal(e) if e else None, unit=draw(small), flat=draw(small)) for e in [*ends, None])


rising = st.one_of(
    st.builds(PerUnit, meter=st.just("m"), unit=small, included=st.integers(0, 900).map(Decimal)),
    st.builds(Graduated, meter=st.just("m"), tiers=tiers(), included=st.integers(0, 900).map(Decimal)),
    st.builds(Blocks, meter=st.just("m"), block=st.integers(40, 990).map(Decimal), amount=small),
)
pricings = st.builds(
    Pricing,
    prices=st.tuples(st.builds(Fee, amount=money), rising),
    prorate=st.booleans(),
    minimum=st.none() | money,
    cap=st.none() | money.map(lambda m: m + 60),
    discount_percent=st.sampled_from([Decimal(0), Decimal("12.5")]),
)


def case(*segments: Segment, period: Period | None = None) -> RatingCase:
    return RatingCase(
        currency="EUR",
        time_zone="Europe/Lisbon",
        period=period or month_of(date(2026, 10, 1)),
        tax_percent=Decimal(23),
        segments=segments,
    )


def segment(plan: Pricing, start: datetime, end: datetime | None, units: int | Decimal = 0) -> Segment:
    return Segment(start=start, end=end, plan=plan, usage={"m": Decimal(units)})


START = datetime(2026, 10, 1, tzinfo=LISBON)


@given(rising, st.integers(0, 9000), st.integers(0, 900))
def test_more_usage_never_costs_less(price, quantity: int, more: int) -> None:
    assert cost(price, Decimal(quantity + more)) >= cost(price, Decimal(quantity))


@given(st.lists(st.integers(1, 30 * 24 * 60), max_size=5, unique=True))
def test_the_shares_of_a_whole_period_sum_to_one(cuts: list[int]) -> None:
    edges = [START, *(START + timedelta(minutes=m) for m in sorted(cuts)), None]
    plan = Pricing(prices=(Fee(amount=Decimal(40)),))
    parts = [segment(plan, a, b) for a, b in itertools.pairwise(edges) if a is not None]
    whole = case(*parts)
    assert sum(share_of(whole, p)[1] for p in parts) == Fraction(1)


@given(pricings, st.integers(1, 30 * 24 * 60), st.integers(0, 5000))
def test_cutting_a_segment_without_a_change_moves_prorated_amounts_by_rounding_only(plan, minutes, units) -> None:
    prorated = Pricing(prices=(plan.prices[0],), prorate=True)
    cut = START + timedelta(minutes=minutes)
    one = rate(case(segment(prorated, START, None))).subtotal
    two = rate(case(segment(prorated, START, cut), segment(prorated, cut, None))).subtotal
    assert abs(one - two) <= Decimal("0.01")


@given(pricings, st.integers(0, 6000))
def test_the_charge_curve_says_what_an_invoice_would(plan: Pricing, units: int) -> None:
    exact = curves.charge_at(curves.charge_curve(plan, "m", 6000), units)
    charged = rate(case(segment(plan, START, None, units))).subtotal
    # The invoice rounds fee, usage, discount and the bounds; the curve rounds nothing.
    assert abs(Fraction(charged) - exact) <= Fraction(3, 100)


@given(pricings, pricings)
def test_between_break_evens_one_plan_stays_the_cheaper(a: Pricing, b: Pricing) -> None:
    one, other = curves.charge_curve(a, "m", 6000), curves.charge_curve(b, "m", 6000)
    edges = [Fraction(0), *curves.break_evens(one, other), Fraction(6000)]
    for start, end in itertools.pairwise(edges):
        signs = set()
        for n in range(1, 20):
            q = start + (end - start) * n / 20
            difference = _at(one, q) - _at(other, q)
            if difference:
                signs.add(difference > 0)
        assert len(signs) <= 1


def _at(curve: curves.Curve, q: Fraction) -> Fraction:
    return next(p.at(q) for p in curve if q <= p.end)


def test_late_usage_is_the_difference_line_by_line_and_striking_out_its_negative() -> None:
    plan = Pricing(
        prices=(
            Fee(amount=Decimal(40)),
            Volume(
                meter="m", tiers=(Tier(up_to=Decimal(100), unit=Decimal("0.5")), Tier(up_to=None, unit=Decimal("0.3")))
            ),
        ),
    )
    before, after = case(segment(plan, START, None, 90)), case(segment(plan, START, None, 110))
    (line,) = late.difference(before, after)
    assert (line.kind, line.quantity, line.amount) == ("usage", Decimal(20), Decimal("-12.00"))
    (back,) = late.difference(after, before)
    assert back.amount == -line.amount
    assert late.difference(before, before) == ()


def test_a_setup_price_waits_for_the_end_of_the_trial() -> None:
    plan = Pricing(prices=(Setup(amount=Decimal(25)), Fee(amount=Decimal(31))))
    middle = START + timedelta(days=10)
    trial = Segment(start=START, end=middle, plan=plan, trial=True, first=True)
    paid = Segment(start=middle, end=None, plan=plan, first=True)
    lines = rate(case(trial, paid)).lines
    assert [(x.segment, x.kind, x.amount) for x in lines] == [
        (0, "fee", Decimal("0.00")),
        (1, "setup", Decimal("25.00")),
        (1, "fee", Decimal("21.00")),
    ]


@pytest.mark.parametrize(
    ("amount", "currency", "becomes"),
    [
        ("2.675", "EUR", "2.68"),
        ("-2.675", "EUR", "-2.68"),
        ("0.5", "JPY", "1"),
        ("1.0005", "KWD", "1.001"),
        ("-0.001", "EUR", "0.00"),
    ],
)
def test_rounding_is_half_away_from_zero_to_the_minor_unit(amount: str, currency: str, becomes: str) -> None:
    assert str(rounded(Decimal(amount), currency)) == becomes


def local(text: str) -> int:
    return instant_of(datetime.fromisoformat(text).replace(tzinfo=LISBON))


def test_local_days_and_hours_follow_clock_changes() -> None:
    start, end = calendar_window("day", local("2026-10-25T12:00"), LISBON)
    assert end - start == 25 * HOUR
    start, end = calendar_window("day", local("2026-03-29T12:00"), LISBON)
    assert end - start == 23 * HOUR
    # 01:30 comes twice on 25 October: each hour is a window of its own.
    first = instant_of(datetime(2026, 10, 25, 0, 30, tzinfo=UTC))
    assert calendar_window("hour", first, LISBON) == (first - 30 * MINUTE, first + 30 * MINUTE)
    assert calendar_window("hour", first + HOUR, LISBON) == (first + 30 * MINUTE, first + 90 * MINUTE)
    # In a zone whose clock moves by half an hour, the change cuts the hour.
    howe = zone("Australia/Lord_Howe")
    change = instant_of(datetime(2026, 10, 3, 15, 30, tzinfo=UTC))
    assert calendar_window("hour", change - SECOND, howe)[1] == change


@given(st.integers(0, 500), st.sampled_from(["minute", "hour", "day", "week", "month"]), st.integers(0, 86_399))
def test_quota_windows_hold_their_instant_and_join_without_gap(days: int, every, seconds: int) -> None:
    begin = local("2026-01-31T01:30")
    at = begin + (days * 86_400 + seconds) * SECOND
    for start, end, after in (
        (*calendar_window(every, at, LISBON), lambda t: calendar_window(every, t, LISBON)),
        (*subscription_window(every, at, begin, LISBON), lambda t: subscription_window(every, t, begin, LISBON)),
    ):
        assert start <= at < end
        assert after(end)[0] == end


@pytest.mark.parametrize(
    ("name", "change"),
    [
        ("Australia/Lord_Howe", datetime(2026, 10, 3, 15, 30, tzinfo=UTC)),
        ("Australia/Lord_Howe", datetime(2026, 4, 4, 15, tzinfo=UTC)),
        ("Asia/Kathmandu", datetime(2026, 5, 5, 5, 15, tzinfo=UTC)),
        ("Europe/Lisbon", datetime(2026, 10, 25, 1, tzinfo=UTC)),
    ],
)
def test_hours_around_a_clock_change_are_what_the_clock_on_the_wall_shows(name: str, change: datetime) -> None:
    where, middle = zone(name), instant_of(change)
    minutes = [middle + m * MINUTE for m in range(-150, 150)]

    def shown(at: int) -> tuple[int, timedelta | None]:
        there = moment_of(at, where)
        return there.hour, there.utcoffset()

    for hour in (list(group) for _, group in itertools.groupby(minutes, key=shown)):
        windows = {calendar_window("hour", at, where) for at in hour}
        assert len(windows) == 1
        if minutes[0] < hour[0] and hour[-1] < minutes[-1]:
            assert windows == {(hour[0], hour[-1] + MINUTE)}


@given(st.integers(0, 2**48 - 1), st.integers(0, 2**80 - 1), st.integers(0, 2**80 - 1))
def test_call_ids_sort_by_time_and_carry_it(ms: int, tail: int, other: int) -> None:
    earlier, later = call_id(ms * 1000, tail), call_id((ms + 1) * 1000, other)
    assert earlier < later and len(earlier) == 26 and set(earlier) <= set("0123456789ABCDEFGHJKMNPQRSTVWXYZ")
    assert instant_in(earlier) == ms * 1000 and call_id(ms * 1000 + 999, tail) == earlier
    assert (call_id(ms * 1000, other) == earlier) == (tail == other)
    for wrong in (earlier[1:], f"0{earlier}", earlier.lower().replace("0", "o") + "!"):
        with pytest.raises(ValueError):
            instant_in(wrong)


def test_a_month_from_the_31st_ends_on_the_last_day_and_comes_back_to_the_31st() -> None:
    begin = local("2026-01-31T09:00")
    start, end = subscription_window("month", local("2026-03-05T00:00"), begin, LISBON)
    assert (moment_of(start, LISBON).date(), moment_of(end, LISBON).date()) == (date(2026, 2, 28), date(2026, 3, 31))
    with pytest.raises(Invalid):
        subscription_window("day", begin - 1, begin, LISBON)


def test_a_meter_counts_what_its_filter_says() -> None:
    tides = Meter(key="m", operations=frozenset({"GET /t"}), outcomes=("2xx", "404"))
    assert [reading(tides, Outcome(operation="GET /t", status=s)) is not None for s in (200, 204, 404, 400, 500)] == [
        True,
        True,
        True,
        False,
        False,
    ]
    assert reading(tides, Outcome(operation="GET /x", status=200)) is None
    assert reading(tides, Outcome(operation="GET /t", status=200, environment="sandbox")) is None
    reported = Meter(key="m", measure="reported", header="units", operations=frozenset({"GET /t"}))
    told = [reading(reported, Outcome(operation="GET /t", status=200, reported=r)) for r in ("1.5", "no", None, "-1")]
    assert [(r.units, r.flagged) for r in told if r] == [(Decimal("1.5"), False), *[(Decimal(0), True)] * 3]
    with pytest.raises(Invalid):
        check(Meter(key="m", operations=frozenset({"x"}), outcomes=("2x",)))


def test_a_projection_follows_the_hours_of_the_week_once_there_is_a_week() -> None:
    now = local("2026-10-14T12:00") // HOUR * HOUR
    window = (now - 10 * HOUR, now + 10 * HOUR)
    young = forecast.projected(Decimal(50), Decimal(80), window, now, hourly={}, first_call=now - 10 * HOUR)
    assert (young.at_end, young.spent_at) == (Fraction(100), now + 5 * HOUR)
    week = 168 * HOUR
    hourly = {now + h * HOUR - w * week: Decimal(4) for h in range(10) for w in range(1, 5)}
    old = forecast.projected(Decimal(50), Decimal(80), window, now, hourly=hourly, first_call=now - 5 * week)
    assert (old.at_end, old.spent_at) == (Fraction(90), now + 7 * HOUR)


def test_rules_read_as_sentences() -> None:
    quota = Quota(
        name="q", counted_per="subscription", units=50000, every="month", aligned="calendar", when_spent="charge"
    )
    assert words(limit_sentence(quota)) == "50,000 a month, then charge, for each subscription"
    price = Graduated(
        meter="m",
        included=Decimal(1000),
        tiers=(
            Tier(up_to=Decimal(5000), unit=Decimal("0.0040")),
            Tier(up_to=None, unit=Decimal("0.0030"), flat=Decimal(2)),
        ),
    )
    said = "1,000 included, then €0.0040 each to 5,000; €0.0030 each plus €2 after that"
    assert words(price_sentence(price, "EUR", True)) == said
    assert [p.field for p in price_sentence(price, "EUR", True, "pricing.prices.1") if p.field][-1] == (
        "pricing.prices.1.tiers.1.flat"
    )
