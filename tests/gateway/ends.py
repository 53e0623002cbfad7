"""A gateway and its decision service in the process of a test: the two ends of one way to a verdict."""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import httpx
import pytest

from calm_tariff.core.limiter import Clock
from calm_tariff.gateway.app import Gateway
from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.counts.counters import LocalCounters
from calm_tariff.gateway.decision_service.decisions import Answer, CallIn, Decisions, OutcomeIn
from calm_tariff.gateway.decision_service.neighbours import Neighbours
from calm_tariff.gateway.decision_service.promises import Promises
from calm_tariff.gateway.recording.journal import Journal
from calm_tariff.gateway.verdict import calls, judging
from calm_tariff.gateway.verdict.calls import InboundCall, Verdict
from calm_tariff.services.serve.gateway_feed import read_feed
from tests.office import Office
from tests.processes import awaited

PATH = "/tides/v1/stations/lm-01"


@dataclass
class Ends:
    """A gateway and its decision service, in this process. `now` is of the monotonic clock."""

    office: Office
    gateway: Gateway
    decisions: Decisions
    now: float = 1000.0

    @property
    def key(self) -> str:
        return self.office.consumers[0].secret

    def judged(self, path: str = PATH, method: str = "GET", **headers: str) -> Verdict:
        sent = [(k.replace("_", "-").encode(), v.encode()) for k, v in headers.items()]
        at = self.office.ctx.now_us
        call = InboundCall(
            id=calls.new_id(at),
            at_us=at,
            method=method,
            path=path,
            query=b"",
            headers=sent,
            address="192.0.2.7",
            peer="192.0.2.7",
        )
        return awaited(judging.judge(self.gateway, judging.locate(self.gateway, call)))

    def decided(self, path: str = PATH, method: str = "GET", outcome: str = "told", **headers: str) -> Answer:
        named = {k.replace("_", "-"): v for k, v in headers.items()}
        asked = CallIn(method=method, uri=path, headers=named, address="192.0.2.7", outcome=outcome)  # type: ignore[arg-type]
        return awaited(self.decisions.decide(asked))

    def told(self, answer: Answer, status: int) -> None:
        said = self.decisions.tell([OutcomeIn(id=answer.verdict.call.id, status=status)])
        assert said.recorded == 1


@pytest.fixture
def ends(office: Office, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Ends]:
    feed = read_feed(office.ctx)
    few = tuple(
        replace(r, forwarding=replace(r.forwarding, breaker_failures=3, breaker_seconds=10)) for r in feed.routes
    )
    gateway = Gateway(
        Journal(tmp_path / "one"),
        snapshot=Snapshot(replace(feed, routes=few)),
        counters=LocalCounters({}, Clock(office.ctx.now_us)),
        now=lambda: office.ctx.now_us,
    )
    gateway.journal.start()

    async def none() -> list[str]:
        return []

    decisions = Decisions(gateway, "token", Promises(tmp_path / "promises"), Neighbours(none, None, "token"))  # type: ignore[arg-type]
    decisions.start()
    made = Ends(office, gateway, decisions)
    monkeypatch.setattr(time, "monotonic", lambda: made.now)
    yield made
    gateway.journal.stop()


def said(answer: httpx.Response) -> tuple[int, str]:
    """What an answer comes to: its status, and the code of a refusal."""
    return answer.status_code, answer.json().get("code", "") if answer.status_code >= 400 else ""
