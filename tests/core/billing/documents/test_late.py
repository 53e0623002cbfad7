"""Late lines and what is to be credited, against the charge computed once from everything."""

from datetime import datetime
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.billing.documents.late import (
    Charged,
    Difference,
    LateCase,
    LineKey,
    Sum,
    as_charged,
    differences,
    parted,
    subtotal,
)
from calm_tariff.core.errors import Invalid
from calm_tariff.core.money import total
from calm_tariff.core.prices import Fee, PerUnit, Tier, Volume
from calm_tariff.core.rating import Pricing, RatingCase, Segment, rate
from tests.core.pricings import START, case, pricings, segment

TIERS = (Tier(up_to=Decimal(100), unit=Decimal("0.5")), Tier(up_to=None, unit=Decimal("0.3")))
FEE_AND_VOLUME = Pricing(prices=(Fee(amount=Decimal(40)), Volume(meter="m", tiers=TIERS)))


def invoiced(known: RatingCase) -> tuple[Charged, ...]:
    return tuple(
        Charged(segment=x.segment, kind=x.kind, meter=x.meter, amount=x.amount, quantity=x.quantity)
        for x in rate(known).lines
    )


class Documents:
    """The invoice of a period, and what was charged late and credited after it."""

    def __init__(self, plan: Pricing, units: int) -> None:
        self.plan = plan
        self.invoice = invoiced(case(segment(plan, START, None, units)))
        self.sums: dict[str, dict[LineKey, Sum]] = {"late": {}, "credit": {}}

    @property
    def charged(self) -> tuple[Charged, ...]:
        return (*self.invoice, *(x for of, sums in self.sums.items() for x in as_charged(of, sums)))

    def differences(self, units: int) -> tuple[Difference, ...]:
        return differences(LateCase(case=case(segment(self.plan, START, None, units)), charged=self.charged))

    def book(self, units: int) -> None:
        """Everything late on the next invoice, everything to be credited on a credit note."""
        parts = parted(self.differences(units))
        for of, sign, found in (("late", 1, parts.late), ("credit", -1, parts.credited)):
            for x in found:
                key = (x.segment, x.kind, x.meter, x.nth)
                quantity = None if x.quantity is None else sign * x.quantity
                self.sums[of][key] = self.sums[of].get(key, Sum()).and_also(sign * x.amount, quantity)

    def comes_to(self) -> Decimal:
        return total(-x.amount if x.of == "credit" else x.amount for x in self.charged)


def test_a_difference_has_the_units_that_came_and_the_line_as_it_is_now() -> None:
    known = case(segment(FEE_AND_VOLUME, START, None, 110))
    (line,) = differences(LateCase(case=known, charged=invoiced(case(segment(FEE_AND_VOLUME, START, None, 90)))))
    assert (line.kind, line.meter, line.quantity, line.amount) == ("usage", "m", Decimal(20), Decimal("-12.00"))
    assert line.now == rate(known).lines[1]
    assert differences(LateCase(case=known, charged=invoiced(known))) == ()


def test_a_line_that_is_no_more_comes_last_with_its_whole_amount_and_units() -> None:
    gone = Charged(segment=7, kind="usage", meter="old", amount=Decimal("5.10"), quantity=Decimal(3))
    more = Charged(segment=7, kind="usage", meter="old", amount=Decimal("1.00"), quantity=Decimal(1), of="late")
    known = case(segment(FEE_AND_VOLUME, START, None, 10))
    found = differences(LateCase(case=known, charged=(gone, more)))
    assert [(x.kind, x.amount, x.quantity, x.now is None) for x in found] == [
        ("fee", Decimal("40.00"), None, False),
        ("usage", Decimal("5.00"), Decimal(10), False),
        ("usage", Decimal("-6.10"), Decimal(-4), True),
    ]
    assert subtotal(found, "EUR") == Decimal("38.90")


def test_the_second_of_lines_alike_is_held_against_the_second() -> None:
    twice = Pricing(prices=(PerUnit(meter="m", unit=Decimal(1)), PerUnit(meter="m", unit=Decimal(2))))
    known = case(segment(twice, START, None, 10))
    one, other = invoiced(known)
    late = Charged(segment=0, kind="usage", meter="m", amount=Decimal(3), of="late")
    assert differences(LateCase(case=known, charged=(one, other))) == ()
    (line,) = differences(LateCase(case=known, charged=(late, one, other)))
    assert (line.nth, line.amount) == (0, Decimal("-3.00"))
    (line,) = differences(LateCase(case=known, charged=(one,)))
    assert (line.nth, line.amount) == (1, Decimal("20.00"))


@pytest.mark.parametrize(
    ("wrong", "where"),
    [({"amount": Decimal("1.005")}, "charged[1].amount"), ({"segment": -1}, "charged[1].segment")],
)
def test_what_no_line_can_have_is_refused_by_its_place(wrong: dict, where: str) -> None:
    good = {"segment": 0, "kind": "fee", "meter": None, "amount": Decimal(1)}
    known = case(segment(FEE_AND_VOLUME, START, None, 10))
    with pytest.raises(Invalid) as refused:
        differences(LateCase(case=known, charged=(Charged(**good), Charged(**{**good, **wrong}))))
    assert refused.value.where == where


units = st.integers(0, 6000)


@given(pricings, st.lists(units, min_size=2, max_size=6))
def test_late_lines_of_late_lines_come_to_the_charge_of_everything(plan: Pricing, known: list[int]) -> None:
    documents = Documents(plan, known[0])
    for each in known[1:]:
        documents.book(each)
        assert documents.differences(each) == ()
    assert documents.comes_to() == rate(case(segment(plan, START, None, known[-1]))).subtotal


@given(pricings, st.permutations([1, 7, 60, 900, 3000]), st.integers(0, 2000), st.integers(1, 4))
def test_the_order_in_which_late_usage_arrives_changes_nothing_in_the_end(
    plan: Pricing, arrivals: list[int], first: int, together: int
) -> None:
    """However it arrives, and however much of it at once."""
    documents, so_far = Documents(plan, first), first
    for place in range(0, len(arrivals), together):
        so_far += sum(arrivals[place : place + together])
        documents.book(so_far)
    assert documents.comes_to() == rate(case(segment(plan, START, None, first + sum(arrivals)))).subtotal


def test_units_that_cost_nothing_late_are_said_by_the_next_line_that_costs_something() -> None:
    documents = Documents(Pricing(prices=(PerUnit(meter="m", unit=Decimal(1), included=Decimal(100)),)), 10)
    assert documents.differences(90) == ()
    (line,) = documents.differences(103)
    assert (line.amount, line.quantity) == (Decimal("3.00"), Decimal(93))


def test_several_documents_speak_of_one_line_once_and_in_its_place() -> None:
    sums = {(0, "usage", "m", 1): Sum(amount=Decimal(2)).and_also(Decimal(3), Decimal(7))}
    first, second = as_charged("late", sums)
    assert (first.amount, first.quantity, second.amount, second.quantity) == (0, None, 5, 7)


two = st.builds(
    Pricing,
    prices=st.tuples(
        st.builds(PerUnit, meter=st.just("m"), unit=st.decimals(0, 2, places=3)),
        st.builds(PerUnit, meter=st.just("n"), unit=st.decimals(0, 2, places=3)),
    ),
    minimum=st.none() | st.decimals(0, 300, places=2),
    cap=st.none() | st.decimals(0, 300, places=2),
    discount_percent=st.sampled_from([Decimal(0), Decimal("12.5"), Decimal(100)]),
)
few = st.integers(0, 200)


@given(two, few, few, few, few)
def test_neither_part_of_a_segment_comes_to_less_than_nothing(plan: Pricing, m: int, n: int, o: int, p: int) -> None:
    before, after = (case(used(plan, *each)) for each in ((m, n), (o, p)))
    parts = parted(differences(LateCase(case=after, charged=invoiced(before))))
    assert subtotal(parts.late, "EUR") >= 0 >= subtotal(parts.credited, "EUR")
    assert total(x.amount for x in (*parts.late, *parts.credited)) == rate(after).subtotal - rate(before).subtotal


def used(plan: Pricing, m: int, n: int, start: datetime = START) -> Segment:
    return Segment(start=start, end=None, plan=plan, usage={"m": Decimal(m), "n": Decimal(n)})


def test_at_the_cap_late_usage_charges_nothing_and_credits_nothing() -> None:
    capped = Pricing(prices=(PerUnit(meter="m", unit=Decimal(1)),), cap=Decimal(50))
    known = case(segment(capped, START, None, 70))
    parts = parted(differences(LateCase(case=known, charged=invoiced(case(segment(capped, START, None, 60))))))
    assert [(x.kind, x.amount) for x in parts.late] == [("usage", Decimal("10.00")), ("cap", Decimal("-10.00"))]
    assert parts.credited == ()


def test_what_is_struck_out_is_credited_less_its_discount_and_down_to_the_minimum() -> None:
    plan = Pricing(prices=(PerUnit(meter="m", unit=Decimal(1)),), minimum=Decimal(10), discount_percent=Decimal("12.5"))
    known = case(segment(plan, START, None, 4))
    parts = parted(differences(LateCase(case=known, charged=invoiced(case(segment(plan, START, None, 20))))))
    assert parts.late == ()
    assert [(x.kind, x.amount) for x in parts.credited] == [
        ("usage", Decimal("-16.00")),
        ("discount", Decimal("2.00")),
        ("minimum", Decimal("6.50")),
    ]
