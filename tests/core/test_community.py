"""Who may do what with what was written, and what ratings come to."""

from __future__ import annotations

from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core import community
from calm_tariff.core.community import STARS, Author, Distribution
from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.lifecycles import POST, move

OFFICE = Author()
ANA, BEN = Author(member=1, consumer=7), Author(member=2, consumer=7)
ELSEWHERE = Author(member=3, consumer=8)


def test_whoever_wrote_it_changes_it_and_for_the_provider_any_of_its_people() -> None:
    community.changes(ANA, ANA)
    community.changes(OFFICE, Author())
    for post, who in ((ANA, BEN), (ANA, ELSEWHERE), (ANA, OFFICE), (OFFICE, ANA)):
        with pytest.raises(Conflict, match="whoever wrote it"):
            community.changes(post, who)


def test_which_answer_helped_is_said_by_those_it_was_asked_for_or_the_provider() -> None:
    assert [community.may_accept(ANA, who) for who in (ANA, BEN, OFFICE, ELSEWHERE)] == [True, True, True, False]


def test_what_others_wrote_is_reported() -> None:
    assert community.may_report(ANA, ELSEWHERE)
    assert not any(community.may_report(post, ANA) for post in (ANA, BEN, OFFICE))


def test_a_question_stands_where_its_answers_bring_it() -> None:
    assert [community.standing(0, False), community.standing(2, False), community.standing(1, True)] == [
        "not answered",
        "answered",
        "settled",
    ]


@pytest.mark.parametrize("wrong", [0, 6, -1])
def test_a_rating_is_from_one_to_five(wrong: int) -> None:
    assert [community.stars(n) for n in STARS] == [1, 2, 3, 4, 5]
    with pytest.raises(Invalid, match="from 1 to 5"):
        community.stars(wrong)


@given(st.dictionaries(st.sampled_from(list(STARS)), st.integers(0, 10_000)))
def test_the_average_is_the_mean_to_a_tenth(counts: dict[int, int]) -> None:
    of = Distribution(counts)
    assert of.ratings == sum(counts.values())
    if of.average is None:
        assert of.ratings == 0
    else:
        exact = sum(stars * n for stars, n in counts.items())
        assert abs(of.average * of.ratings - exact) <= Decimal("0.05") * of.ratings
        assert of.average == of.average.quantize(Decimal("0.1"))


@pytest.mark.parametrize(
    ("counts", "average"), [({5: 1, 4: 3}, "4.2"), ({3: 3, 4: 1}, "3.2"), ({1: 1, 2: 1}, "1.5"), ({5: 2}, "5.0")]
)
def test_halves_of_a_tenth_go_to_the_even_one(counts: dict[int, int], average: str) -> None:
    assert str(Distribution(counts).average) == average  # 4.25 and 3.25 lie in the middle


def test_what_is_written_is_kept_within_bounds() -> None:
    assert community.title("  Which datum? ") == "Which datum?" and community.text(" x\n") == "x"
    for check, field, typed in (
        (community.title, "title", " "),
        (community.title, "title", "x" * 161),
        (community.title, "title", "a\u202eb"),
        (community.text, "text", "\n"),
        (community.text, "text", "x" * 10_001),
        (community.reason, "reason", "x" * 501),
    ):
        with pytest.raises(Invalid) as refused:
            check(typed)
        assert refused.value.where == field


def test_what_is_taken_back_does_not_come_again() -> None:
    assert move(POST, "it", move(POST, "it", "shown", "hidden"), "shown") == "shown"
    for state, to in (("taken back", "shown"), ("hidden", "taken back"), ("hidden", "hidden")):
        with pytest.raises(Conflict):
            move(POST, "it", state, to)
