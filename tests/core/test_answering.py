"""How well an API has answered is told no better than it was."""

from __future__ import annotations

from collections import Counter
from decimal import Decimal
from itertools import pairwise

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.answering import BAND_ENDS, available, band_of, failed, within_us


def test_the_middle_of_a_band_is_within_a_hundredth_of_all_that_it_holds() -> None:
    assert (BAND_ENDS[0], BAND_ENDS[-1]) == (100, 100_000_000)
    for begin, end in pairwise(BAND_ENDS):
        assert begin < end <= begin * 101 / 99 + 1.02  # whole microseconds
        middle = 2 * begin * end / (begin + end)
        assert all(abs(middle - took) <= took / 100 + 1 for took in (begin, end))


@pytest.mark.parametrize(("took", "end"), [(0, 100), (100, 100), (101, 102), (10**8, 10**8)])
def test_a_duration_is_in_the_first_band_that_it_does_not_pass(took: int, end: int) -> None:
    assert BAND_ENDS[band_of(took)] == end
    assert band_of(10**8 + 1) == len(BAND_ENDS)


@given(st.lists(st.integers(0, 2 * 10**8), min_size=1, max_size=60), st.integers(1, 100))
def test_what_is_said_of_so_many_of_a_hundred_is_true_and_the_least_that_is(took: list[int], percent: int) -> None:
    end = within_us(Counter(map(band_of, took)), percent)

    def holds(bound: int) -> bool:
        return sum(one <= bound for one in took) * 100 >= percent * len(took)

    if end is None:
        assert not holds(BAND_ENDS[-1])
    else:
        assert holds(end) and not any(holds(other) for other in BAND_ENDS if other < end)


def test_one_failure_is_never_rounded_away() -> None:
    assert available(1_000_000, 1) == Decimal("99.99") and available(3, 1) == Decimal("66.66")
    assert available(7, 0) == Decimal(100) and available(7, 7) == Decimal(0)
    assert [failed(status) for status in (200, 404, 429, 499, 500, 504)] == [False] * 4 + [True] * 2


def test_of_no_calls_nothing_is_said() -> None:
    assert within_us({}, 50) is None
