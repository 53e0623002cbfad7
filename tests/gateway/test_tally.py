"""What a gateway counts of itself, and tells monitoring systems."""

from __future__ import annotations

from prometheus_client.openmetrics.parser import text_string_to_metric_families

from calm_tariff.gateway import metrics
from calm_tariff.gateway.calls import Judged
from calm_tariff.gateway.tally import BOUNDS, Tally
from tests.gateway.test_judging import Ends, ends
from tests.processes import awaited

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


def test_monitoring_systems_are_told_the_same_figures(ends: Ends) -> None:
    gateway = ends.gateway
    gateway.tally.count(ends.judged(x_api_key=ends.key), 200)
    gateway.tally.count(ends.judged(), 401)
    told: list[dict] = []

    async def send(message: dict) -> None:
        told.append(message)

    async def none() -> dict:
        return {}

    answer = metrics.endpoint(gateway)
    awaited(answer({"type": "http", "path": "/metrics"}, none, send))
    kind = dict(told[0]["headers"])[b"content-type"]
    assert told[0]["status"] == 200 and kind.startswith(b"application/openmetrics-text")
    families = {f.name: f for f in text_string_to_metric_families(told[1]["body"].decode())}
    calls = {(s.labels["verdict"], s.labels["status"]): s.value for s in families["calm_calls"].samples}
    assert calls == {("served", "200"): 1, ("refused", "401"): 1}
    buckets = [s for s in families["calm_deciding_seconds"].samples if s.name.endswith("_bucket")]
    assert [s.value for s in buckets] == sorted(s.value for s in buckets) and buckets[-1].labels["le"] == "+Inf"
    told.clear()
    awaited(answer({"type": "http", "path": "/elsewhere"}, none, send))
    assert told[0]["status"] == 404 and b"/metrics" in told[1]["body"]
