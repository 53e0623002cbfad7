"""What late usage and striking out change of a charge."""

import itertools
from decimal import Decimal

from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core import late
from calm_tariff.core.money import total
from calm_tariff.core.prices import Fee, Tier, Volume
from calm_tariff.core.rating import Pricing, rate
from tests.core.pricings import START, case, pricings, segment


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


@given(pricings, st.lists(st.integers(0, 6000), min_size=2, max_size=5))
def test_late_lines_after_late_lines_come_to_the_charge_of_everything_known(plan: Pricing, counted: list[int]) -> None:
    known = [case(segment(plan, START, None, units)) for units in counted]
    said = [line.amount for before, after in itertools.pairwise(known) for line in late.difference(before, after)]
    assert total(said) == rate(known[-1]).subtotal - rate(known[0]).subtotal
    assert total(line.amount for line in late.difference(known[0], known[-1])) == total(said)


@given(pricings, st.integers(0, 6000), st.integers(0, 6000))
def test_late_lines_say_the_quantity_that_came(plan: Pricing, before: int, after: int) -> None:
    lines = late.difference(case(segment(plan, START, None, before)), case(segment(plan, START, None, after)))
    counted = [line.quantity for line in lines if line.kind == "usage"]
    assert counted == ([Decimal(after - before)] if after != before else [])
