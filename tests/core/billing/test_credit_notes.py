"""What may be taken back of an invoice."""

from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.billing.credit_notes import Creditable, Taken, check, spread, whole
from calm_tariff.core.errors import Conflict, Invalid

LINES = [
    Creditable(line=1, amount=Decimal("40.00"), credited=Decimal("10.00")),
    Creditable(line=2, amount=Decimal("-5.00")),
    Creditable(line=3, amount=Decimal("2.00"), credited=Decimal("2.00")),
]


def taken(line: int, amount: str) -> Taken:
    return Taken(line=line, amount=Decimal(amount))


def test_as_much_as_is_left_may_be_taken_and_also_a_discount_taken_back() -> None:
    check(LINES, [taken(1, "30.00"), taken(2, "-5.00")])
    check(LINES, [taken(2, "-0.01")])
    assert whole(LINES) == (taken(1, "30.00"), taken(2, "-5.00"))


@pytest.mark.parametrize(
    ("wrong", "error", "where"),
    [
        ([], Invalid, "lines"),
        ([taken(1, "1"), taken(9, "1")], Invalid, "lines[1].line"),
        ([taken(1, "1"), taken(1, "1")], Invalid, "lines[1].line"),
        ([taken(1, "0")], Invalid, "lines[0].amount"),
        ([taken(1, "30.01")], Conflict, "lines[0].amount"),
        ([taken(1, "-1")], Conflict, "lines[0].amount"),
        ([taken(2, "1")], Conflict, "lines[0].amount"),
        ([taken(2, "-5.01")], Conflict, "lines[0].amount"),
        ([taken(3, "0.01")], Conflict, "lines[0].amount"),
    ],
)
def test_more_than_is_left_and_what_is_not_there_is_refused(wrong: list[Taken], error: type, where: str) -> None:
    with pytest.raises(error) as refused:
        check(LINES, wrong)
    assert refused.value.where == where


def test_what_stands_on_several_lines_is_taken_from_the_first_first() -> None:
    on = [Creditable(line=1, amount=Decimal(80)), Creditable(line=2, amount=Decimal(10), credited=Decimal(4))]
    assert spread(Decimal(5), on) == {1: Decimal(5)}
    assert spread(Decimal(83), on) == {1: Decimal(80), 2: Decimal(3)}
    with pytest.raises(Conflict, match="1 more than is left"):
        spread(Decimal(87), on)
    assert spread(Decimal(-3), [Creditable(line=7, amount=Decimal(-5))]) == {7: Decimal(-3)}
    with pytest.raises(Conflict):
        spread(Decimal(-3), on)


amounts = st.decimals(-100, 100, places=2)


@given(st.lists(amounts, min_size=1, max_size=5), st.lists(st.tuples(st.integers(0, 5), amounts), max_size=12))
def test_no_line_is_ever_taken_back_beyond_itself(lines: list[Decimal], attempts: list[tuple[int, Decimal]]) -> None:
    credited = [Decimal(0) for _ in lines]
    for line, amount in attempts:
        now = [Creditable(line=n, amount=a, credited=c) for n, (a, c) in enumerate(zip(lines, credited, strict=True))]
        try:
            check(now, [Taken(line=line, amount=amount)])
        except (Invalid, Conflict):
            continue
        credited[line] += amount
    for amount, back in zip(lines, credited, strict=True):
        assert abs(back) <= abs(amount) and back * amount >= 0
