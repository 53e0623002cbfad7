"""What a gateway counts of itself."""

from __future__ import annotations

from calm_tariff.gateway.tally import BOUNDS, Tally
from calm_tariff.gateway.verdict.calls import Judged
from tests.gateway.ends import Ends, ends

__all__ = ["ends"]


def test_every_call_is_counted_by_its_verdict_and_refusals_by_their_reason(ends: Ends) -> None:
    tally = Tally()
    let_in = ends.judged(x_api_key=ends.key)
    tally.count(let_in, 200)
    tally.count(let_in, 502)
    tally.count(ends.judged(), 401)
    tally.count(ends.judged("/tides/v1/nothing", x_api_key=ends.key), 404)
    assert dict(tally.calls) == {("served", 200): 1, ("served", 502): 1, ("refused", 401): 1, ("refused", 404): 1}
    assert dict(tally.refusals) == {"credential": 1, "route": 1}
    assert sum(tally.deciding) == 2  # of those that came to a decision


def test_a_decision_falls_into_the_first_bound_that_holds_it(ends: Ends) -> None:
    tally = Tally()
    for took in (0, BOUNDS[0], BOUNDS[0] + 1, BOUNDS[-1], BOUNDS[-1] + 1):
        judged = ends.judged(x_api_key=ends.key)
        assert isinstance(judged, Judged)
        tally.count(judged._replace(took_us=took), 200)
    assert (tally.deciding[0], tally.deciding[1], tally.deciding[-2], tally.deciding[-1]) == (2, 1, 1, 1)
    assert tally.deciding_us == 2 * (BOUNDS[0] + BOUNDS[-1]) + 2
