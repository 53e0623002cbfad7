"""What monitoring systems are told of a gateway."""

from __future__ import annotations

from prometheus_client.openmetrics.parser import text_string_to_metric_families

from calm_tariff.gateway import metrics
from tests.gateway.ends import Ends, ends
from tests.processes import awaited

__all__ = ["ends"]


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
