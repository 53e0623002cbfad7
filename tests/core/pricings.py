"""Prices and cases of charges that tests draw from."""

from datetime import date, datetime
from decimal import Decimal

from hypothesis import strategies as st

from calm_tariff.core.periods import Period, month_of, zone
from calm_tariff.core.prices import Blocks, Fee, Graduated, PerUnit, Tier
from calm_tariff.core.rating import Pricing, RatingCase, Segment

LISBON = zone("Europe/Lisbon")
START = datetime(2026, 10, 1, tzinfo=LISBON)
UNIT = PerUnit(meter="calls", unit=Decimal("0.01"))
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


def tiered(*tiers: Tier) -> Pricing:
    return Pricing(prices=(Graduated(meter="calls", tiers=tiers),))


def tier(up_to: int | None, unit: str = "1", flat: str = "0") -> Tier:
    return Tier(up_to=None if up_to is None else Decimal(up_to), unit=Decimal(unit), flat=Decimal(flat))
