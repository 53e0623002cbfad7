"""What refuses a call before any limit is asked, in words."""

from typing import get_args

import pytest

from calm_tariff.core.refusals import REASONS, Reason, in_words


def test_every_reason_is_said_in_words_of_its_own() -> None:
    assert set(REASONS) == set(get_args(Reason))
    assert len(set(REASONS.values())) == len(REASONS)
    assert not any(words.endswith(".") or words in REASONS for words in REASONS.values())


@pytest.mark.parametrize("limit", ["Forecast calls", "Pause", "payments", "refused"])
def test_a_limit_is_said_by_its_name(limit: str) -> None:
    assert in_words(limit) == limit and in_words("pause") != "pause"
