"""Which calls may be struck out together, and that they are those somebody has seen."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.striking import MOST_CALLS, MOST_NAMED, must_be_as_shown, must_fit, named


def test_calls_that_are_named_are_named_once_and_with_their_source() -> None:
    assert named("edge", ["2", "1", "2"]) == ("2", "1")
    assert named("", []) == ()
    assert len(named("edge", [str(n) for n in range(MOST_NAMED)])) == MOST_NAMED
    for source, ids, where in (
        ("", ["1"], "source"),
        ("edge", [str(n) for n in range(MOST_NAMED + 1)], "ids"),
        ("edge", ["1", ""], "ids"),
        ("edge", ["x" * 201], "ids"),
    ):
        with pytest.raises(Invalid) as refused:
            named(source, ids)
        assert refused.value.where == where


@pytest.mark.parametrize(("found", "shown"), [(0, 0), (1, 0), (0, 1), (2, 1), (1, 2), (MOST_CALLS + 1, MOST_CALLS + 1)])
def test_none_are_struck_out_but_those_that_were_shown(found: int, shown: int) -> None:
    with pytest.raises(Conflict):
        must_be_as_shown(found, shown)


def test_so_many_may_be_struck_out_at_once() -> None:
    must_be_as_shown(1, 1)
    must_be_as_shown(MOST_CALLS, MOST_CALLS)
    must_fit(0)
    with pytest.raises(Conflict, match="shorter stretch"):
        must_fit(MOST_CALLS + 1)
