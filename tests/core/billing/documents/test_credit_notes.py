"""What may be taken back of an invoice."""

from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.billing.documents.credit_notes import (
    Creditable,
    LeftOfGroup,
    Taken,
    borne,
    check,
    spread,
    tax_back,
    whole,
)
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


def test_with_the_last_of_a_group_goes_the_rest_of_its_tax() -> None:
    left = LeftOfGroup(base=Decimal("0.11"), tax=Decimal("0.02"))
    assert tax_back(Decimal("0.11"), Decimal("0.03"), left) == Decimal("0.02")
    assert tax_back(Decimal("0.10"), Decimal("0.02"), left) == Decimal("0.02")
    assert tax_back(Decimal("0.11"), Decimal("0.03"), None) == Decimal("0.03")


def test_what_is_more_than_a_note_gives_back_is_borne_by_those_that_give_back_most() -> None:
    notes = {1: Decimal("0.29"), 2: Decimal("17.50"), 3: Decimal("4.00")}
    assert borne(Decimal("-3.01"), notes, 1) == {2: Decimal("-3.01")}
    assert borne(Decimal("-3.01"), notes, 3) == {3: Decimal("-3.01")}
    assert borne(Decimal("-20.00"), notes, 1) == {2: Decimal("-17.50"), 3: Decimal("-2.50")}
    assert borne(Decimal("-22.00"), notes, 7) == {2: Decimal("-17.50"), 3: Decimal("-4.00"), 1: Decimal("-0.29")} | {
        7: Decimal("-0.21")
    }
    assert borne(Decimal("5.00"), {}, 7) == {7: Decimal("5.00")}


@given(
    amount=st.decimals(-200, 200, places=2),
    notes=st.dictionaries(st.integers(1, 5), st.decimals(0, 100, places=2), max_size=4),
    own=st.integers(1, 6),
)
def test_no_note_comes_to_less_than_nothing_where_all_of_them_do_not(
    amount: Decimal, notes: dict[int, Decimal], own: int
) -> None:
    parts = borne(amount, notes, own)
    assert sum(parts.values()) == amount
    then = {note: notes.get(note, Decimal(0)) + parts.get(note, Decimal(0)) for note in {*notes, *parts}}
    assert all(gives >= 0 for gives in then.values()) or sum(then.values()) < 0


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
