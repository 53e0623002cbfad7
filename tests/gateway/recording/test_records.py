"""The record that is made of a call."""

from __future__ import annotations

from dataclasses import replace
from decimal import Decimal
from typing import Any

from calm_tariff.core.meters import Meter, costs_of
from calm_tariff.gateway.compiled.compiling import Counting
from calm_tariff.gateway.recording.records import NOTHING, metering, record_of, refused_by, settled
from calm_tariff.gateway.verdict.calls import Judged, Outcome, Verdict
from tests.gateway.ends import Ends, ends

__all__ = ["ends"]


def test_a_record_says_how_far_a_call_came_and_no_further(ends: Ends) -> None:
    def recorded(verdict: Verdict, status: int) -> dict[str, Any]:
        outcome = Outcome(status=status)
        metered = settled(verdict, outcome, ends.gateway.counters)
        now = ends.office.ctx.now_us + 7
        return record_of(verdict, outcome, metered, "gateway-1", now, snapshot=ends.gateway.snapshot)

    known = ("credential", "application_id", "operation_id", "subscription_id", "refused_by")
    unknown = recorded(ends.judged(x_api_key="lt_live_nobody"), 401)
    assert [unknown[name] for name in known] == ["key", None, None, None, "credential"]
    assert recorded(ends.judged(), 401)["credential"] == "none"
    astray = recorded(ends.judged("/tides/v1/nothing", x_api_key=ends.key), 404)
    own = ends.office.consumers[0]
    assert [astray[name] for name in known] == ["key", own.application, None, None, "route"]
    large = recorded(ends.judged(x_api_key=ends.key, content_length="99999999999"), 413)
    assert [large[name] for name in known[1:]] == [own.application, large["operation_id"], own.subscription, "body"]
    assert large["operation_id"] and large["units"] == {} and large["checks"] == []
    served = recorded(ends.judged(x_api_key=ends.key), 200)
    assert served["units"] == {str(ends.office.meter): "1"} and served["checks"] and served["refused_by"] is None
    assert served["took_us"] == 7 and served["verdict"] == "served"


def judged(ends: Ends) -> Judged:
    verdict = ends.judged(x_api_key=ends.key)
    assert isinstance(verdict, Judged)
    return verdict


def test_a_call_that_the_meter_does_not_count_gives_back_what_it_reserved(ends: Ends) -> None:
    for status, units in ((200, "1"), (500, None), (404, None)):
        metered = settled(judged(ends), Outcome(status=status), ends.gateway.counters)
        assert metered.units == ({str(ends.office.meter): units} if units else {})
        assert [counted[3] for counted in metered.counted.values()] == ([units] if units else [])
    left = [check.left for check in judged(ends).decided.decision.checks if check.limit.kind == "quota"]
    assert left == [98]  # the first call and this one


def reported(ends: Ends, said: str | None) -> tuple[dict[str, str], list[str]]:
    """What a call comes to by a meter that reads the back end's `Calm-Rows`, where that says so."""
    verdict = judged(ends)
    access = verdict.admitted.access
    rows = Meter(key="rows", measure="reported", operations=frozenset({access.operation}), header="Calm-Rows")
    costs = costs_of((access.meters[0].meter, rows), access.operation, "live", "key")
    asked = verdict._replace(
        admitted=verdict.admitted._replace(access=replace(access, meters=(Counting(7, rows),), costs=costs))
    )
    found, _ = metering(asked, Outcome(status=200, reported={"Calm-Rows": said}))
    return found.units, found.remarks


def test_units_that_a_back_end_reports_are_taken_as_they_are_and_what_is_no_number_counts_nothing(ends: Ends) -> None:
    assert reported(ends, "12.5") == ({"7": "12.500000"}, [])
    for said in (None, "many", "-3", "nan"):
        units, remarks = reported(ends, said)
        assert Decimal(units["7"]) == 0
        assert remarks == ["Calm-Rows was absent or no number, and counted 0"]


def test_what_is_refused_comes_to_nothing_and_says_by_what(ends: Ends) -> None:
    unknown = ends.judged(x_api_key="lt_live_nobody")
    assert settled(unknown, Outcome(status=401), ends.gateway.counters) is NOTHING
    assert refused_by(unknown) == "credential"
    while (verdict := judged(ends)).let_through:
        assert refused_by(verdict) is None
    assert refused_by(verdict) == "Rate"
    assert settled(verdict, Outcome(status=429), ends.gateway.counters) is NOTHING
