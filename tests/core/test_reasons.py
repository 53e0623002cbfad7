"""Reasons that people give."""

import pytest

from calm_tariff.core import reasons
from calm_tariff.core.errors import Invalid


def test_a_reason_is_kept_without_space_around_it() -> None:
    assert reasons.given("  it was a mistake\n") == "it was a mistake"


@pytest.mark.parametrize(
    ("text", "said"), [(" \n", "tell them why"), ("x" * 2001, "must have at most 2,000 characters")]
)
def test_none_and_one_that_is_too_long_are_refused(text: str, said: str) -> None:
    with pytest.raises(Invalid) as refused:
        reasons.given(text, "tell them why", "why")
    assert (refused.value.where, refused.value.what) == ("why", said)
