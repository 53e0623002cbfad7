"""A worker: it ships the journal of its machine, and does jobs. Any number of them run beside each other."""

from __future__ import annotations

import logging
from datetime import UTC, datetime
from threading import Event

from calm_tariff.services.base.context import SYSTEM, Context, context_for
from calm_tariff.services.base.retrying import PASSING
from calm_tariff.services.base.supervision import Supervised
from calm_tariff.services.serve import instances
from calm_tariff.services.serve.shipping import ship
from calm_tariff.settings import Settings
from calm_tariff.store.base.connecting import engine
from calm_tariff.worker.handlers import handlers
from calm_tariff.worker.loop import Loop

log = logging.getLogger("calm_tariff.worker")
SHIP_SECONDS = 0.25
AWAY_SECONDS = 1.0
# What runs beside each other: shipping, reporting, taking jobs, and as many jobs as there is room for.
CONNECTIONS = 8


def work(settings: Settings, stop: Event) -> None:
    """Work until told to stop. A database that is away is waited for; nothing is lost meanwhile."""
    ctx = context_for(
        engine(settings.database_url, pool_size=CONNECTIONS),
        actor=SYSTEM,
        web_address=settings.address,
        sealing_secret=settings.value_secret,
        reach=settings.reach,
    )
    worker = Worker(ctx, settings)
    for thread in worker.threads(stop):
        thread.start()
    stop.wait()
    for thread in worker.supervised:
        thread.join()


class Worker:
    """The threads of a worker, and what it reports of itself."""

    def __init__(self, ctx: Context, settings: Settings) -> None:
        self.ctx, self.settings = ctx, settings
        self.began, self.shipped = datetime.now(UTC), 0
        # It asks often and little: what a connection that is dead costs is one warning.
        looking = context_for(engine(settings.database_url, pool_size=1, pool_pre_ping=False))
        self.loop = Loop(ctx, handlers(ctx, settings), looking)
        self.supervised: list[Supervised] = []

    def threads(self, stop: Event) -> list[Supervised]:
        """What is to be started."""
        works = (("shipping", self.ship), ("jobs", self.loop.run), ("reporting", self.report))
        self.supervised = [Supervised(name, work, stop) for name, work in works]
        return self.supervised

    def ship(self, stop: Event) -> None:
        """Move closed segments of the journal into the database, again and again."""
        while not stop.is_set():
            pause = SHIP_SECONDS
            try:
                self.shipped += ship(self.ctx, self.settings.journal).calls
            except (*PASSING, OSError) as error:
                log.warning("nothing is shipped: %s", error.__class__.__name__)
                pause = AWAY_SECONDS
            stop.wait(pause)

    def report(self, stop: Event) -> None:
        """Say how this worker is, again and again."""
        while not stop.is_set():
            try:
                instances.report(self.ctx, self.settings.worker_name, "worker", self.began, self.words())
            except PASSING as error:
                log.warning("nothing is reported: %s", error.__class__.__name__)
            stop.wait(instances.REPORT_SECONDS)

    def words(self) -> dict[str, object]:
        """What it says of itself."""
        return {
            "shipped_calls": self.shipped,
            "jobs_done": self.loop.done,
            "jobs_failed": self.loop.failed,
            "begun_again": {thread.name: thread.died for thread in self.supervised if thread.died},
            "started_again": self.settings.started_again,
            "ended_with": self.settings.ended_with,
        }
