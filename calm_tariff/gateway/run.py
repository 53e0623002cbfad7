"""Running a gateway: restore counts, follow changes, close journal segments, report, serve."""

from __future__ import annotations

import asyncio
import contextlib
import gc
import logging
import os
import signal
import socket
import time
from datetime import UTC, datetime, timedelta
from typing import Any

import uvicorn

from calm_tariff.core.limiter import Clock
from calm_tariff.edge.server import Server
from calm_tariff.edge.wire import Wire
from calm_tariff.gateway import metrics
from calm_tariff.gateway.app import Gateway, now_us
from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.counts import shared_counters
from calm_tariff.gateway.counts.counters import LocalCounters
from calm_tariff.gateway.counts.rebuilding import DRAIN_SECONDS, Keeper
from calm_tariff.gateway.counts.shared_counters import SharedCounters
from calm_tariff.gateway.decision_service import decisions_api
from calm_tariff.gateway.decision_service.decisions import PROMISED_SECONDS, Decisions
from calm_tariff.gateway.decision_service.neighbours import Neighbours
from calm_tariff.gateway.decision_service.promises import Promises
from calm_tariff.gateway.forward import forwarding
from calm_tariff.gateway.recording.journal import Journal
from calm_tariff.gateway.restore import restored
from calm_tariff.gateway.tasks import Tasks
from calm_tariff.gateway.verdict.tokens import Tokens
from calm_tariff.services.base import stamps
from calm_tariff.services.base.context import context_for
from calm_tariff.services.base.retrying import PASSING
from calm_tariff.services.serve import instances
from calm_tariff.services.serve.gateway_feed import read_feed
from calm_tariff.services.serve.shipping import ship
from calm_tariff.settings import Settings
from calm_tariff.store.base.connecting import engine

log = logging.getLogger("calm_tariff.gateway")
FOLLOW_SECONDS = 0.4
SEGMENT_SECONDS = 0.25
# Of those that share counts, because the others wait for them; any other process reports less often.
REPORT_SECONDS = 1.0
SWEEP_SECONDS = 120.0
SWEPT_AT_ONCE = 200
# Counts of terms that have ended are kept so long, for calls that were decided under them and are still on their way.
FORGOTTEN_US = 3600 * 1_000_000


async def serve(settings: Settings) -> None:
    """Serve until told to stop."""
    running = _Running(settings)
    async with forwarding.client(settings.reach) as session:
        await running.serve(session)


class _Running:
    """A gateway with all that goes on beside it."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.ctx = context_for(
            engine(settings.database_url, pool_size=3),
            web_address=settings.address,
            web_origins=settings.origins,
            sealing_secret=settings.value_secret,
            reach=settings.reach,
        )
        self.name = settings.gateway_name
        self.gateway = Gateway(
            Journal(settings.journal / self.name, settings.journal_sync),
            self.name,
            trusted=settings.trusted,
            certificates=settings.client_certificates,
            sender_seconds=settings.sender_seconds,
            reader_seconds=settings.reader_seconds,
            value_secret=settings.value_secret.encode(),
        )
        self.started = datetime.now(UTC)
        self.begun = asyncio.Event()
        self.tasks = Tasks()
        # It asks often and little: what a connection that is dead costs is one warning.
        self.watching = context_for(engine(settings.database_url, pool_size=1, pool_pre_ping=False))
        self.shared: SharedCounters | None = None
        self.keeper: Keeper | None = None

    async def serve(self, session: Any) -> None:
        gateway, settings = self.gateway, self.settings
        gateway.session = session
        gateway.tokens = Tokens(settings.address, session)
        gateway.journal.start()
        if settings.counters:
            self.shared = SharedCounters(
                shared_counters.connect(settings.counters, settings.counters_patience),
                settings.counters_space,
                settings.counters_away,
            )
            gateway.counters = self.shared
            self.keeper = Keeper(
                self.name, self.shared, self.quieten, self.others, self.rebuild, afresh=gateway.journal.torn
            )
        tasks = self.tasks
        for work in (self.follow, self.close_segments, self.report, self.sweep):
            tasks.begin(work.__name__, work)
        tasks.begin("metrics", lambda: _beside(metrics.endpoint(gateway), settings.metrics_port))
        if settings.proxy_token:
            promises = Promises(gateway.journal.folder / "promises")
            deciding = Decisions(
                gateway, settings.proxy_token, promises, Neighbours(self.deciding, session, settings.proxy_token)
            )
            deciding.start()
            tasks.begin("give_up", deciding.give_up)
            service = decisions_api.create_app(deciding)
            tasks.begin("decisions", lambda: _beside(service, settings.decisions_port))
        server = Server(
            uvicorn.Config(
                gateway,
                host="127.0.0.1",
                port=settings.gateway_port,
                log_config=None,
                access_log=False,
                lifespan="off",
                http=Wire,
                loop="uvloop",
                server_header=False,
                proxy_headers=False,
                timeout_keep_alive=60,
                backlog=2048,
            )
        )
        try:
            log.info("serving on port %d, counts %s", settings.gateway_port, gateway.counters.state)
            # The server ends on it and raises it again afterwards, which would end the process before it has left.
            signal.signal(signal.SIGTERM, lambda *_: None)
            await server.serve()
        finally:
            await tasks.end()
            if self.shared:
                await self.shared.settled()
                await self.shared.redis.aclose()
            gateway.journal.stop()
            with contextlib.suppress(*PASSING):
                await asyncio.to_thread(instances.leave, self.ctx, self.name)

    async def follow(self) -> None:
        """Start from recorded usage, then swap the snapshot whenever its stamp has risen."""
        gateway = self.gateway
        keeping: asyncio.Task[None] | None = None
        try:
            while True:
                try:
                    if gateway.snapshot.number < 0:
                        await asyncio.to_thread(self.begin)
                        _settle_memory()
                        self.begun.set()
                        if self.keeper:
                            await self.announce()
                            keeping = asyncio.create_task(self.keeper.follow())
                    elif await asyncio.to_thread(stamps.number, self.watching) != gateway.snapshot.number:
                        gateway.snapshot = await asyncio.to_thread(lambda: Snapshot(read_feed(self.ctx)))
                    gateway.fresh_at = time.monotonic()
                except PASSING as error:
                    # The gateway goes on with the snapshot it has; a starting one waits.
                    log.warning("what has changed cannot be read: %s", error.__class__.__name__)
                await asyncio.sleep(FOLLOW_SECONDS)
        finally:
            if keeping:
                keeping.cancel()

    def begin(self) -> None:
        """Ship what an earlier process left, so that recorded usage is complete, and rebuild the counts."""
        ship(self.ctx, self.settings.journal)
        snapshot = Snapshot(read_feed(self.ctx))
        now = now_us()
        counts = restored(self.ctx, snapshot, now)
        if self.shared:
            self.shared.mirror = counts
            self.shared.clock.last = now
        else:
            self.gateway.counters = LocalCounters(counts, Clock(now))
        self.gateway.snapshot = snapshot

    async def close_segments(self) -> None:
        """Hand segments to the shipper often, so that screens are fresh; look again after a fault."""
        journal = self.gateway.journal
        while True:
            await asyncio.sleep(SEGMENT_SECONDS)
            try:
                journal.close_segment()
                journal.probe()
            except OSError as error:
                journal.fault = str(error)

    async def report(self) -> None:
        """Say how this gateway is, so that people and the other gateways know: once it has begun, because nothing else
        uses the database before."""
        await self.begun.wait()
        while True:
            try:
                await self.announce()
            except PASSING:
                log.warning("nothing is reported: the database does not answer, or others are in the way")
            await asyncio.sleep(REPORT_SECONDS if self.shared else instances.REPORT_SECONDS)

    async def announce(self) -> None:
        """Report once."""
        gateway, tally = self.gateway, self.gateway.tally
        words = {
            "port": self.settings.gateway_port,
            "decides_at": f"http://127.0.0.1:{self.settings.decisions_port}" if self.settings.proxy_token else None,
            "process": os.getpid(),
            "started_again": self.settings.started_again,
            "ended_with": self.settings.ended_with,
            "snapshot": gateway.snapshot.number,
            "snapshot_age_ms": round((time.monotonic() - gateway.fresh_at) * 1000) if gateway.fresh_at else None,
            "counters": gateway.counters.state,
            "shares": self.settings.counters_space if self.shared else None,
            "counters_away": "away" in gateway.counters.state,
            "backlog": gateway.journal.waiting(),
            "shipped": gateway.journal.shipped(),
            "fault": gateway.journal.fault,
            "calls": sum(tally.calls.values()),
            "refused": sum(n for (verdict, _), n in tally.calls.items() if verdict == "refused"),
            "begun_again": dict(self.tasks.died),
            "left_out": gateway.sampling.left_out,
            "in_flight": tally.in_flight,
            "resting": list(gateway.breakers.resting(time.monotonic())),
        }
        await asyncio.to_thread(instances.report, self.ctx, self.name, "gateway", self.started, words)

    async def sweep(self) -> None:
        """Forget counts that say nothing any more, so that memory does not grow with every address seen."""
        while True:
            await asyncio.sleep(SWEEP_SECONDS)
            counts = self.shared.mirror if self.shared else getattr(self.gateway.counters, "counts", {})
            compiled: dict[str, Any] = {}
            for n, stack in enumerate(self.gateway.snapshot.stacks(now_us() - FORGOTTEN_US)):
                compiled |= {each.scope: each for each in stack.compiled}
                if n % SWEPT_AT_ONCE == 0:
                    await asyncio.sleep(0)  # calls go first
            for n, key in enumerate(list(counts)):
                known = compiled.get(key[0])
                if known is None or (key in counts and known.stale(counts[key], now_us())):
                    counts.pop(key, None)
                if n % SWEPT_AT_ONCE == 0:
                    await asyncio.sleep(0)

    async def quieten(self) -> None:
        """Let the calls on their way end, and ship what they left."""
        assert self.shared
        deadline = time.monotonic() + DRAIN_SECONDS
        # Calls that wait for their decision are in flight, too, and go on afterwards.
        while self.gateway.tally.in_flight > self.shared.deciding and time.monotonic() < deadline:
            await asyncio.sleep(0.01)
        await self.shared.settled()
        self.gateway.journal.close_segment()
        await asyncio.to_thread(ship, self.ctx, self.settings.journal, self.name)

    async def others(self) -> frozenset[str]:
        """The gateways that live and share these counts."""
        return await asyncio.to_thread(instances.sharing, self.ctx, self.settings.counters_space) | {self.name}

    async def deciding(self) -> list[str]:
        """Where other gateways decide for proxies; also those that have lately fallen silent, which may know more."""
        return await asyncio.to_thread(instances.deciding, self.ctx, self.name, timedelta(seconds=PROMISED_SECONDS))

    async def rebuild(self) -> tuple[dict[tuple[str, str], Any], Any, int]:
        """The counts as recorded, with the stacks they belong to and the instant they were read at."""

        def read() -> tuple[dict[tuple[str, str], Any], Any, int]:
            ship(self.ctx, self.settings.journal)
            snapshot = Snapshot(read_feed(self.ctx))
            now = now_us()
            return restored(self.ctx, snapshot, now), snapshot.stacks(now), now

        return await asyncio.to_thread(read)


def _settle_memory() -> None:
    """Have the collector leave alone what lives long: looking through a snapshot would hold calls up."""
    gc.set_threshold(20_000, 20, 100)
    gc.freeze()


async def _beside(app: Any, port: int) -> None:
    """Serve beside the gateway's own server, which signals are left to. A port that is taken is an `OSError`: uvicorn,
    asked to take one, ends the process instead."""
    server = Server(uvicorn.Config(app, host="127.0.0.1", port=port, log_config=None, access_log=False, lifespan="off"))
    server.capture_signals = contextlib.nullcontext  # type: ignore[method-assign,assignment]
    await server.serve(sockets=[socket.create_server(("127.0.0.1", port))])
