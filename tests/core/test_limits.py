"""Limits that make no sense."""

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.core.limits import Pace, Rate, check


@pytest.mark.parametrize(
    ("limit", "field"),
    [
        (Rate(name="", counted_per="key", calls=1, per_seconds=1, burst=1), "name"),
        (Rate(name="r", counted_per="planet", calls=1, per_seconds=1, burst=1), "counted_per"),
        (Rate(name="r", counted_per="key", calls=0, per_seconds=1, burst=1), "calls"),
        (Rate(name="r", counted_per="key", calls=1, per_seconds=1, burst=0), "burst"),
        (Pace(name="p", counted_per="address", calls=1, per_seconds=1, max_wait_ms=-1), "max_wait_ms"),
    ],
)
def test_a_limit_that_makes_no_sense_is_refused_by_field(limit, field: str) -> None:
    with pytest.raises(Invalid) as refused:
        check(limit, "limits[3]")
    assert refused.value.where == f"limits[3].{field}"
