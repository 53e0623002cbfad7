"""The worker's loop: one leader at a time, each task on its own rhythm."""

from __future__ import annotations

import logging
import smtplib
from collections.abc import Callable
from datetime import timedelta
from threading import Event, Thread

import httpx
from sqlalchemy.exc import SQLAlchemyError

from calm_tariff.services.base import mailing
from calm_tariff.services.base.context import SYSTEM, Context, context_for
from calm_tariff.services.base.leading import leading
from calm_tariff.services.compose import apis
from calm_tariff.services.serve import instances, trials, upkeep
from calm_tariff.services.serve.shipping import ship
from calm_tariff.settings import Settings
from calm_tariff.store.base.connecting import engine
from calm_tariff.worker.outside import ask_back_ends, ask_ticket_desk

log = logging.getLogger("calm_tariff.worker")
BEAT_SECONDS = 0.25
REPORT = timedelta(seconds=1)
TIDY = timedelta(minutes=10)
HEALTH_SECONDS = 15
OUTSIDE_SECONDS = 1
FAILED_SECONDS = 3


def work(settings: Settings, stop: Event) -> None:
    """Work until told to stop. A database that is away is waited for; nothing is lost meanwhile."""
    ctx = context_for(
        engine(settings.database_url, pool_size=3), actor=SYSTEM, web_address=settings.address,
        sealing_secret=settings.value_secret, reach=settings.reach,
    )  # fmt: skip
    while not stop.is_set():
        try:
            with leading(ctx) as won:
                if won:
                    _lead(ctx, settings, stop)
        except SQLAlchemyError as error:
            log.warning("the database does not answer: %s", error.__class__.__name__)
        stop.wait(1)


def _lead(ctx: Context, settings: Settings, stop: Event) -> None:
    upkeep.prepare_partitions(ctx)
    began = ctx.now
    reported, tidied, shipped = began - REPORT, began - TIDY, 0
    done = Event()
    # The outside may be slow; what callers do must not wait for it, nor one chore for another.
    beside = [Thread(target=_repeat, args=(chore, seconds, done), daemon=True)
              for seconds, chore in _chores(ctx, settings)]  # fmt: skip
    for one in beside:
        one.start()
    try:
        while not stop.is_set():
            shipped += ship(ctx, settings.journal).calls
            now = ctx.now
            if now - reported >= REPORT:
                words = {"leads": True, "shipped_calls": shipped, "started_again": settings.started_again,
                         "ended_with": settings.ended_with}  # fmt: skip
                instances.report(ctx, "worker", "worker", began, words)
                reported = now
            if now - tidied >= TIDY:
                upkeep.forget_counts(ctx)
                tidied = now
            stop.wait(BEAT_SECONDS)
    finally:
        done.set()
        for one in beside:
            one.join()


def _chores(ctx: Context, settings: Settings) -> list[tuple[float, Callable[[], object]]]:
    """What goes on beside shipping, and how many seconds lie between two times of it."""
    chores: list[tuple[float, Callable[[], object]]] = [
        (BEAT_SECONDS, lambda: mailing.send_waiting(ctx, settings.mail_host, settings.mail_port)),
        (OUTSIDE_SECONDS, lambda: trials.end_trials(ctx)),
        (OUTSIDE_SECONDS, lambda: apis.end_sunsets(ctx)),
        (HEALTH_SECONDS, lambda: ask_back_ends(ctx)),
    ]
    if settings.ticket_desk_address:
        desk, secret = settings.ticket_desk_address, settings.ticket_desk_secret
        chores.append((OUTSIDE_SECONDS, lambda: ask_ticket_desk(ctx, desk, secret)))
    return chores


def _repeat(chore: Callable[[], object], seconds: float, done: Event) -> None:
    """Do a chore again and again. What goes wrong in it is logged, and it is tried again after a while."""
    while not done.is_set():
        pause = seconds
        try:
            chore()
        except (SQLAlchemyError, OSError, smtplib.SMTPException, httpx.HTTPError) as error:
            log.warning("it does not answer: %s: %s", error.__class__.__name__, error)
            pause = max(seconds, FAILED_SECONDS)
        except Exception:
            log.exception("a chore failed, and is tried again")
            pause = max(seconds, FAILED_SECONDS)
        done.wait(pause)
