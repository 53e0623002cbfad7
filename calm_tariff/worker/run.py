"""The worker's loop: one leader at a time, each task on its own rhythm."""

from __future__ import annotations

import logging
import smtplib
import time
from datetime import timedelta
from pathlib import Path
from threading import Event, Thread

import httpx
from sqlalchemy.exc import SQLAlchemyError

from calm_tariff.services import apis, instances, mailing, subscriptions, upkeep
from calm_tariff.services.context import SYSTEM, Context, context_for
from calm_tariff.services.shipping import ship
from calm_tariff.store.base import engine
from calm_tariff.worker.outside import ask_back_ends, exchange_tickets

log = logging.getLogger("calm_tariff.worker")
BEAT_SECONDS = 0.25
REPORT = timedelta(seconds=1)
TIDY = timedelta(minutes=10)
HEALTH_SECONDS = 15
OUTSIDE_SECONDS = 1


def work(database_url: str, journal_root: Path, mail_port: int, web_address: str, desk: str, stop: Event) -> None:
    """Work until told to stop. A database that is away is waited for; nothing is lost meanwhile."""
    ctx = context_for(engine(database_url, pool_size=3), actor=SYSTEM, web_address=web_address)
    while not stop.is_set():
        try:
            with upkeep.leading(ctx) as won:
                if won:
                    _lead(ctx, journal_root, mail_port, desk, stop)
        except SQLAlchemyError as error:
            log.warning("the database does not answer: %s", error.__class__.__name__)
        stop.wait(1)


def _lead(ctx: Context, journal_root: Path, mail_port: int, desk: str, stop: Event) -> None:
    upkeep.prepare_partitions(ctx)
    began = ctx.now
    reported, tidied, shipped = began - REPORT, began - TIDY, 0
    done = Event()
    # The outside may be slow; what callers do must not wait for it, nor letters for the ticket desk.
    outside = [Thread(target=_ask_outside, args=(ctx, desk, done)), Thread(target=_post, args=(ctx, mail_port, done))]
    for one in outside:
        one.daemon = True
        one.start()
    try:
        while not stop.is_set():
            shipped += ship(ctx, journal_root).calls
            now = ctx.now
            if now - reported >= REPORT:
                instances.report(ctx, "worker", "worker", began, {"leads": True, "shipped_calls": shipped})
                reported = now
            if now - tidied >= TIDY:
                upkeep.forget_counts(ctx)
                tidied = now
            stop.wait(BEAT_SECONDS)
    finally:
        done.set()
        for one in outside:
            one.join()


def _post(ctx: Context, port: int, done: Event) -> None:
    """Hand over letters as they are written."""
    while not done.is_set():
        pause = BEAT_SECONDS
        try:
            mailing.send_waiting(ctx, "127.0.0.1", port)
        except (OSError, smtplib.SMTPException) as error:
            log.warning("the mail server does not answer: %s", error)
            pause = 5
        except SQLAlchemyError as error:
            log.warning("the database does not answer: %s", error.__class__.__name__)
        done.wait(pause)


def _ask_outside(ctx: Context, desk: str, done: Event) -> None:
    """Trials and sunsets that end, tickets, and the health of back ends, each on its own rhythm."""
    health_after = 0.0
    while not done.is_set():
        try:
            subscriptions.end_trials(ctx)
            apis.end_sunsets(ctx)
            exchange_tickets(ctx, desk)
            if time.monotonic() >= health_after:
                ask_back_ends(ctx)
                health_after = time.monotonic() + HEALTH_SECONDS
        except httpx.HTTPError as error:
            log.warning("the ticket desk does not answer: %s", error)
        except SQLAlchemyError as error:
            log.warning("the database does not answer: %s", error.__class__.__name__)
        done.wait(OUTSIDE_SECONDS)
