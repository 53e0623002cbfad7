"""A gateway at a simulated time, without processes: real services, snapshot, limiter, journal, shipping and database.

What needs time to pass (that the gateway hears of a change, that a worker is awake) happens when the test says so.
"""

from __future__ import annotations

import asyncio
from collections.abc import Coroutine
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from datetime import datetime
from pathlib import Path
from typing import Any

from calm_tariff.core.limiter import Clock
from calm_tariff.core.periods import instant_of, moment_of
from calm_tariff.gateway.app import Gateway
from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.counts.counters import LocalCounters
from calm_tariff.gateway.counts.shared_counters import SharedCounters, connect
from calm_tariff.gateway.recording.journal import Journal
from calm_tariff.gateway.restore import restored
from calm_tariff.services.admit import moves
from calm_tariff.services.serve import trials
from calm_tariff.services.serve.gateway_feed import Example, read_feed
from calm_tariff.services.serve.shipping import ship
from tests.office import Office
from tests.processes import PATIENCE

ANSWER = Example(200, "text/plain", "tide")


@dataclass
class Said:
    """What the gateway answered."""

    status: int
    headers: dict[str, str]
    body: bytes


@dataclass
class Simulated:
    """One gateway of an office. Operations answer by themselves, with `statuses` where these are given by path."""

    office: Office
    folder: Path
    redis_url: str = ""
    answers: dict[str, Example] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.loop = ThreadPoolExecutor(1)  # a loop of its own, whatever runs in this thread
        self.runner = asyncio.Runner()
        self.gateway = Gateway(Journal(self.folder / "one"))
        self.gateway.journal.start()
        self.restart()

    def done(self, work: Coroutine[Any, Any, Any]) -> Any:
        return self.loop.submit(self.runner.run, work).result()

    @property
    def now_us(self) -> int:
        return instant_of(self.office.clock.now)

    def learn(self) -> None:
        """Hear of everything that has changed."""
        feed = read_feed(self.office.ctx)
        labels = {o: label for label, o in self.office.operations.items()}
        routes = tuple(
            replace(r, examples=tuple((o, "example", self.answers.get(labels[o], ANSWER)) for o, _, _ in r.operations))
            for r in feed.routes
        )
        self.gateway.snapshot = Snapshot(replace(feed, routes=routes))

    def restart(self) -> None:
        """Forget every count, and know again what is recorded."""
        self.ship()
        self.learn()
        counts = restored(self.office.ctx, self.gateway.snapshot, self.now_us)
        if not self.redis_url:
            self.gateway.counters = LocalCounters(counts, Clock(self.now_us))
            return

        async def rebuilt() -> SharedCounters:
            shared = SharedCounters(connect(self.redis_url, PATIENCE), f"simulated-{self.folder.name}", own_time=False)
            await shared.fill(counts, self.gateway.snapshot.stacks(self.now_us), self.now_us)
            await shared.redis.hset(shared.key("clock"), mapping={"era": "one", "t": self.now_us})
            shared.join("one")
            return shared

        self.gateway.counters = self.done(rebuilt())

    def call(self, secret: str, path: str = "/stations/lm-01", at_us: int | None = None, **headers: str) -> Said:
        """One call, at the office's time or at an instant; without a credential where there is no secret. It comes from
        the place that its `from_` says."""
        at = at_us or self.now_us
        self.gateway.now = lambda: at
        address = headers.pop("from_", "192.0.2.7")
        key = {"x-api-key": secret} if secret else {}
        sent = {**key, **{name.replace("_", "-"): text for name, text in headers.items()}}
        scope = {
            "type": "http",
            "method": "GET",
            "raw_path": f"/tides/v1{path}".encode(),
            "query_string": b"",
            "headers": [(k.lower().encode(), v.encode()) for k, v in sent.items()],
            "client": (address, 1),
        }
        said: list[dict[str, Any]] = []

        async def send(message: dict[str, Any]) -> None:
            said.append(message)

        async def through() -> None:
            await self.gateway(scope, None, send)  # type: ignore[arg-type]
            if isinstance(self.gateway.counters, SharedCounters):
                await self.gateway.counters.settled()

        self.done(through())
        fields = {k.decode(): v.decode() for k, v in said[0]["headers"]}
        return Said(said[0]["status"], fields, said[1]["body"])

    def left(self, secret: str, path: str = "/stations/lm-01", **headers: str) -> dict[str, int]:
        """What a call would be told is left, by limit; the call itself is taken from it."""
        fields = self.call(secret, path, **headers).headers
        items = [item.split(";") for item in fields.get("ratelimit", "").split(", ") if item]
        return {item[0].strip('"'): int(item[1].removeprefix("r=")) for item in items}

    def ship(self) -> None:
        self.gateway.journal.close_segment()
        ship(self.office.ctx, self.folder)

    def work(self) -> None:
        """What a worker does that is awake."""
        self.ship()
        trials.end_trials(self.office.ctx)
        moves.make_those_that_have_come(self.office.ctx)

    def at(self, moment: datetime | int) -> None:
        """Let time pass until a moment or an instant."""
        self.office.clock.now = moment_of(moment) if isinstance(moment, int) else moment

    def close(self) -> None:
        if isinstance(self.gateway.counters, SharedCounters):
            self.done(self.gateway.counters.redis.aclose())
        self.loop.submit(self.runner.close).result()
        self.gateway.journal.stop()
