"""A gateway's figures for monitoring systems: OpenMetrics text on a port of its own."""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, HistogramMetricFamily, Metric
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest
from prometheus_client.registry import Collector, CollectorRegistry

from calm_tariff.gateway.tally import BOUNDS

if TYPE_CHECKING:
    from calm_tariff.gateway.app import Gateway


class _Figures(Collector):
    def __init__(self, gateway: Gateway) -> None:
        self.gateway = gateway

    def collect(self) -> Iterator[Metric]:
        """Every figure as it stands."""
        gateway, tally = self.gateway, self.gateway.tally
        calls = CounterMetricFamily("calm_calls", "Recorded calls", labels=["verdict", "status"])
        for (verdict, status), n in tally.calls.items():
            calls.add_metric([verdict, str(status)], n)
        yield calls
        refusals = CounterMetricFamily("calm_refusals", "Refused calls by what refused them", labels=["by"])
        for by, n in tally.refusals.items():
            refusals.add_metric([by], n)
        yield refusals
        left_out = CounterMetricFamily("calm_refusals_left_out", "Refusals of unknown callers counted, not recorded")
        left_out.add_metric([], gateway.sampling.left_out)
        yield left_out
        deciding = HistogramMetricFamily("calm_deciding_seconds", "Time to decide on a call", unit="seconds")
        total, buckets = 0, []
        for bound, n in zip((*(f"{b / 1e6:g}" for b in BOUNDS), "+Inf"), tally.deciding, strict=True):
            total += n
            buckets.append((bound, total))
        deciding.add_metric([], buckets=buckets, sum_value=tally.deciding_us / 1e6)
        yield deciding
        gauges = (
            ("calm_calls_in_flight", "Calls being answered", tally.in_flight),
            ("calm_snapshot_number", "The stamp of the snapshot in use", gateway.snapshot.number),
            (
                "calm_snapshot_age_seconds",
                "Since the snapshot was last known to be the newest",
                time.monotonic() - gateway.fresh_at,
            ),
            ("calm_journal_segments_waiting", "Closed segments not shipped yet", gateway.journal.waiting()),
            ("calm_journal_writable", "Whether calls can be recorded", int(gateway.journal.fault is None)),
            ("calm_counters_away", "Whether the shared counts are away", int("away" in gateway.counters.state)),
        )
        for name, words, value in gauges:
            yield GaugeMetricFamily(name, words, value=value)


def endpoint(gateway: Gateway) -> Any:
    """An ASGI application that answers `/metrics`, `/healthz` and `/readyz`."""
    registry = CollectorRegistry()
    registry.register(_Figures(gateway))

    async def answer(scope: dict[str, Any], receive: Any, send: Any) -> None:
        if scope["type"] != "http":
            return
        path = scope["path"]
        if path in ("/healthz", "/readyz"):
            await gateway.health(path, send)
            return
        status, body, kind = 404, b"only /metrics, /healthz and /readyz are here\n", "text/plain; charset=utf-8"
        if path == "/metrics":
            body = generate_latest(registry)  # type: ignore[no-untyped-call]
            status, kind = 200, CONTENT_TYPE_LATEST
        await send({"type": "http.response.start", "status": status, "headers": [(b"content-type", kind.encode())]})
        await send({"type": "http.response.body", "body": body})

    return answer
