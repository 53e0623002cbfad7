"""Contrast as WCAG 2.2 defines it, and the colour that would do where one does not."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.contrast import SHAPE, TEXT, WHITE, colour, judged, ratio
from calm_tariff.core.errors import Invalid

COLOURS = st.integers(0, 0xFFFFFF).map(lambda n: f"#{n:06X}")


@pytest.mark.parametrize(
    ("one", "other", "expected"),
    [
        ("#000000", "#FFFFFF", 21.0),
        ("#FFFFFF", "#FFFFFF", 1.0),
        ("#777777", "#FFFFFF", 4.478),
        ("#FF0000", WHITE, 3.998),
    ],
)
def test_ratios_are_those_of_the_standard(one: str, other: str, expected: float) -> None:
    assert ratio(one, other) == pytest.approx(expected, abs=0.001) == ratio(other, one)


@given(COLOURS, COLOURS)
def test_what_is_judged_too_close_comes_with_a_colour_that_is_far_enough(main: str, accent: str) -> None:
    words, marks = judged(main, accent)
    for pair, other, least in ((words, WHITE, TEXT), (marks, main, SHAPE)):
        tried = {"main_colour": main, "accent_colour": accent}[pair.field]
        assert (pair.nearest is None) == (ratio(tried, other) >= least)
        assert pair.nearest is None or ratio(pair.nearest, other) >= least
        assert pair.ratio <= ratio(tried, other)  # never said to be better than it is


@pytest.mark.parametrize("text", ["", "153B5B", "#153B5", "#153B5BFF", "red", "#15 3B5B", "#153B5G"])
def test_a_colour_is_six_digits(text: str) -> None:
    with pytest.raises(Invalid) as refused:
        colour(text, "main_colour")
    assert refused.value.where == "main_colour"
    assert colour(" #153b5b ", "x") == "#153B5B"
