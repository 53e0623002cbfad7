"""The loop that does jobs: each kind has room of its own, so that none is held up by another."""

from __future__ import annotations

import logging
import random
from collections import Counter
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import datetime
from threading import Event, Lock, Thread

from calm_tariff.services.base import jobs
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.jobs import Job
from calm_tariff.services.base.retrying import PASSING, again
from calm_tariff.worker.handlers import Handler

log = logging.getLogger("calm_tariff.worker")
# How long a job that is written waits for being seen, at most, while nothing else is done.
LOOK_SECONDS = 1.0
AWAY_SECONDS = 2.0
RENEW_SECONDS = 15.0


class Loop:
    """Claims jobs that are due and does them, several kinds beside each other. `done` and `failed` count them.
    `looking` is the context with which it looks for jobs, where that is another."""

    def __init__(self, ctx: Context, handlers: Sequence[Handler], looking: Context | None = None) -> None:
        self.done = self.failed = 0
        self._ctx, self._looking, self._chance = ctx, looking or ctx, random.Random()
        self._handlers = {handler.kind: handler for handler in handlers}
        self._busy: Counter[str] = Counter()
        # Jobs that go on, by id, and until when they may at most.
        self._going: dict[int, datetime] = {}
        self._lock, self._freed, self._stop = Lock(), Event(), Event()

    def run(self, stop: Event) -> None:
        """Do jobs until told to stop; those begun are finished. A database that is away is waited for."""
        scheduled = [kind for kind, handler in self._handlers.items() if handler.every is not None]
        room = sum(handler.at_once for handler in self._handlers.values())
        self._stop, over = stop, Event()
        renewing = Thread(target=self._renew, args=(over,), name="claims", daemon=True)
        renewing.start()
        with ThreadPoolExecutor(max_workers=room, thread_name_prefix="job") as pool:
            while not stop.is_set():
                try:
                    jobs.schedule(self._ctx, scheduled)
                    break
                except PASSING as error:
                    self._away(error, stop)
            while not stop.is_set():
                self._freed.clear()
                try:
                    job = self.take()
                except PASSING as error:
                    self._away(error, stop)
                    continue
                if job is None:
                    self._freed.wait(LOOK_SECONDS)
                else:
                    pool.submit(self.do, job)
        over.set()
        renewing.join()

    def take(self) -> Job | None:
        """Claim a job of a kind that there is room for, to be done with `do`."""
        free = {kind: h.lease for kind, h in self._handlers.items() if self._busy[kind] < h.at_once}
        job = again(lambda: jobs.claim(self._looking, free)) if free else None
        if job is not None:
            with self._lock:
                self._busy[job.kind] += 1
                self._going[job.id] = self._ctx.now + self._handlers[job.kind].lease
        return job

    def do(self, job: Job) -> None:
        """Do a job and say how it went, also once a database is back that went away meanwhile. Nothing that goes wrong
        in it goes further."""
        handler = self._handlers[job.kind]
        try:
            outcome = self._attempt(job, handler)
            while not self._said(job, handler, outcome):
                if self._lapsed(job) or self._stop.wait(AWAY_SECONDS):  # another will do it
                    break
        except Exception:
            log.exception("how %s %d went cannot be kept", job.kind, job.id)
        finally:
            with self._lock:
                self._busy[job.kind] -= 1
                self._going.pop(job.id, None)
            self._freed.set()

    def _attempt(self, job: Job, handler: Handler) -> Exception | datetime | None:
        """Do it: why it failed, or when it is to be done again, if ever."""
        try:
            next_time = again(lambda: handler.do(job.arguments))
        except Exception as error:
            return error
        return self._ctx.now + handler.every if next_time is None and handler.every is not None else next_time

    def _said(self, job: Job, handler: Handler, outcome: Exception | datetime | None) -> bool:
        """Say how it went; whether that is kept."""
        try:
            if isinstance(outcome, Exception):
                self._failed(job, handler, outcome)
                return True
            if outcome is None:
                again(lambda: jobs.done(self._ctx, job))
            else:
                again(lambda: jobs.again(self._ctx, job, outcome))
            self.done += 1
            return True
        except PASSING as error:
            log.warning("how %s %d went cannot be kept yet: %s", job.kind, job.id, error.__class__.__name__)
            return False

    def _failed(self, job: Job, handler: Handler, error: Exception) -> None:
        words = f"{error.__class__.__name__}: {error}"
        over = again(lambda: jobs.failed(self._ctx, job, words, handler.tries, self._chance.random()))
        self.failed += 1
        what = "is given up" if over else "is tried again"
        log.warning("%s %d failed at attempt %d and %s: %s", job.kind, job.id, job.attempts, what, words)

    def _lapsed(self, job: Job) -> bool:
        return self._ctx.now > self._going[job.id]

    def _renew(self, over: Event) -> None:
        """Have claims hold on while their jobs go on, as long as they may."""
        while not over.wait(RENEW_SECONDS):
            now = self._ctx.now
            with self._lock:
                going = [job_id for job_id, until in self._going.items() if until > now]
            try:
                if going:
                    jobs.renew(self._ctx, going, now)
            except PASSING as error:
                log.warning("claims cannot be renewed: %s", error.__class__.__name__)

    def _away(self, error: Exception, stop: Event) -> None:
        log.warning("no job can be taken: %s", error.__class__.__name__)
        stop.wait(AWAY_SECONDS)
