"""Refusals of callers nobody knows are recorded in part, and counted whole."""

from __future__ import annotations

import json
import time
from pathlib import Path

from calm_tariff.gateway.app import Gateway
from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.counts.counters import LocalCounters
from calm_tariff.gateway.recording.journal import Journal
from calm_tariff.gateway.recording.sampling import AT_ONCE, PER_SECOND, Sampling
from calm_tariff.services.serve.gateway_feed import read_feed
from tests.office import Office
from tests.processes import awaited


def test_a_flood_is_recorded_in_part_and_counted_whole() -> None:
    sampling = Sampling()
    taken = [sampling.takes(1000.0) for _ in range(AT_ONCE + 500)]
    assert taken == [True] * AT_ONCE + [False] * 500
    assert not sampling.takes(1000.0 + 0.9 / PER_SECOND)
    assert sampling.takes(1000.0 + 1.1 / PER_SECOND)
    assert sampling.left_out == 501
    assert sampling.told().startswith("501 refusals of unknown callers")
    assert sampling.told() == ""
    assert sampling.takes(2000.0)
    assert sampling.room == AT_ONCE - 1


def test_what_a_known_caller_does_is_always_recorded(office: Office, tmp_path: Path) -> None:
    gateway = Gateway(
        Journal(tmp_path),
        snapshot=Snapshot(read_feed(office.ctx)),
        counters=LocalCounters(),
        now=lambda: office.ctx.now_us,
    )
    gateway.journal.start()
    key = office.consumers[0].secret

    async def call(headers: list[tuple[bytes, bytes]], path: str) -> int:
        told: list[dict] = []

        async def send(message: dict) -> None:
            told.append(message)

        async def receive() -> dict:
            return {"type": "http.request", "body": b"", "more_body": False}

        scope = {
            "type": "http",
            "method": "GET",
            "raw_path": path.encode(),
            "headers": headers,
            "query_string": b"",
            "client": ("192.0.2.1", 1),
        }
        await gateway(scope, receive, send)
        return told[0]["status"]

    async def everything() -> list[int]:
        flood = [await call([(b"x-api-key", b"lt_live_wrong")], f"/tides/v1/stations/{n}") for n in range(600)]
        return flood + [await call([(b"x-api-key", key.encode())], f"/tides/v1/nothing/{n}") for n in range(300)]

    began = time.monotonic()
    assert awaited(everything()) == [401] * 600 + [404] * 300
    most = AT_ONCE + PER_SECOND * (time.monotonic() - began) + 1
    gateway.journal.stop()
    rows = [json.loads(line) for file in tmp_path.glob("*") if file.is_file() for line in file.read_text().splitlines()]
    unknown = [r for r in rows if r["consumer_id"] is None]
    assert AT_ONCE <= len(unknown) <= most
    assert len(rows) - len(unknown) == 300
    assert gateway.sampling.left_out == 600 - len(unknown)
    assert gateway.tally.calls["refused", 401] == 600  # counted all
