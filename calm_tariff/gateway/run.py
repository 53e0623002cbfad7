"""Running a gateway: restore counts, follow changes, close journal segments, serve."""

from __future__ import annotations

import asyncio
import contextlib
import gc
import logging
from pathlib import Path

import uvicorn
from sqlalchemy.exc import SQLAlchemyError

from calm_tariff.gateway import forwarding
from calm_tariff.gateway.app import Gateway, now_us
from calm_tariff.gateway.journal import Journal
from calm_tariff.gateway.restore import restored
from calm_tariff.gateway.snapshot import compiled
from calm_tariff.services import stamps
from calm_tariff.services.context import Context, context_for
from calm_tariff.services.gateway_feed import read_feed
from calm_tariff.services.shipping import ship
from calm_tariff.store.base import engine

log = logging.getLogger("calm_tariff.gateway")
FOLLOW_SECONDS = 0.5
SEGMENT_SECONDS = 0.25


async def serve(database_url: str, journal_root: Path, name: str, port: int, sync: bool = False) -> None:
    """Serve until told to stop."""
    ctx = context_for(engine(database_url, pool_size=2))
    gateway = Gateway(Journal(journal_root / name, sync), name)
    server = uvicorn.Server(
        uvicorn.Config(
            gateway, host="127.0.0.1", port=port, log_level="warning", access_log=False, lifespan="off",
            http="httptools", loop="uvloop", server_header=False, proxy_headers=False, timeout_keep_alive=60,
            backlog=2048,
        )
    )  # fmt: skip
    async with forwarding.client() as session:
        gateway.session = session
        gateway.journal.start()
        tasks = [asyncio.create_task(_follow(ctx, gateway, journal_root)), asyncio.create_task(_close(gateway))]
        try:
            await server.serve()
        finally:
            for task in tasks:
                task.cancel()
                with contextlib.suppress(asyncio.CancelledError):
                    await task
            gateway.journal.close_segment()


async def _follow(ctx: Context, gateway: Gateway, journal_root: Path) -> None:
    """Start from recorded usage, then swap the snapshot whenever its stamp has risen."""
    while True:
        try:
            if gateway.snapshot.number < 0:
                await asyncio.to_thread(_begin, ctx, gateway, journal_root)
            elif await asyncio.to_thread(stamps.number, ctx) != gateway.snapshot.number:
                gateway.snapshot = await asyncio.to_thread(lambda: compiled(read_feed(ctx)))
                gc.freeze()
        except SQLAlchemyError as error:
            # The gateway goes on with the snapshot it has; a starting one waits.
            log.warning("the database does not answer: %s", error.__class__.__name__)
        await asyncio.sleep(FOLLOW_SECONDS)


def _begin(ctx: Context, gateway: Gateway, journal_root: Path) -> None:
    """Ship what an earlier process left, so that recorded usage is complete, and rebuild the counts."""
    ship(ctx, journal_root)
    snapshot = compiled(read_feed(ctx))
    now = now_us()
    gateway.counts = restored(ctx, snapshot, now)
    gateway.clock.last = now
    gateway.snapshot = snapshot
    # A snapshot lives long, and the collector looking through it would hold calls up.
    gc.set_threshold(20_000, 20, 100)
    gc.freeze()


async def _close(gateway: Gateway) -> None:
    """Hand segments to the shipper often, so that screens are fresh; look again after a fault."""
    while True:
        await asyncio.sleep(SEGMENT_SECONDS)
        try:
            gateway.journal.close_segment()
            gateway.journal.probe()
        except OSError as error:
            gateway.journal.fault = str(error)
