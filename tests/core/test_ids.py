"""Call ids."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.ids import call_id, instant_in


@given(st.integers(0, 2**48 - 1), st.integers(0, 2**80 - 1), st.integers(0, 2**80 - 1))
def test_call_ids_sort_by_time_and_carry_it(ms: int, tail: int, other: int) -> None:
    earlier, later = call_id(ms * 1000, tail), call_id((ms + 1) * 1000, other)
    assert earlier < later and len(earlier) == 26 and set(earlier) <= set("0123456789ABCDEFGHJKMNPQRSTVWXYZ")
    assert instant_in(earlier) == ms * 1000 and call_id(ms * 1000 + 999, tail) == earlier
    assert (call_id(ms * 1000, other) == earlier) == (tail == other)
    for wrong in (earlier[1:], f"0{earlier}", earlier.lower().replace("0", "o") + "!"):
        with pytest.raises(ValueError):
            instant_in(wrong)
