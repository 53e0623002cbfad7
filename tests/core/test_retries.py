"""Pauses between attempts."""

from __future__ import annotations

from datetime import timedelta

from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.retries import LONGEST, pause


def test_pauses_double_up_to_an_hour() -> None:
    assert [pause(n, 0).total_seconds() for n in (1, 2, 3, 10, 11, 12, 100)] == [2, 4, 8, 1024, 2048, 3600, 3600]


@given(st.integers(1, 1000), st.floats(0, 1))
def test_chance_adds_up_to_a_quarter_so_that_what_failed_together_is_not_tried_together(attempts: int, chance) -> None:
    least = pause(attempts, 0)
    assert least <= pause(attempts, chance) <= least * 1.25 + timedelta(microseconds=1)
    assert least <= LONGEST
