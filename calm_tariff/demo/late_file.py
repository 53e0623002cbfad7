"""A file of calls that another gateway counted, at the pontoon of Pelorus Cover's survey boats, which was cut off for a
week of the month charged last: left for a person to bring in by hand, and to see turn into late lines."""

from __future__ import annotations

import csv
import io
import random
from bisect import bisect
from datetime import date
from typing import Any

from sqlalchemy import select

from calm_tariff.core.periods import DAY, HOUR, SECOND, day_start, moment_of, zone
from calm_tariff.demo.history import Caller, World
from calm_tariff.services.base.context import Actor, Context
from calm_tariff.services.serve.elsewhere import at_once
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Consumer

NAME, SOURCE, WHOSE = "late-usage.csv", "saltgrave-pontoon", "Pelorus Cover"
FIRST_DAY, DAYS, CALLS = 11, 7, 6000
SENT = 160
HEAD = ("source", "id", "time", "application", "method", "path", "status", "bytes_out")


def late_file(ctx: Context, world: World, callers: list[Caller], month: date, seed: int) -> str:
    """The file as CSV. One of its rows names a path that is none, and one comes twice."""
    begin = day_start(month.replace(day=FIRST_DAY), zone(world.feed.time_zone))
    rows = _rows(ctx, world, callers, (begin, DAYS * 24 * HOUR, CALLS), f"{month:%Y%m}", seed)
    rows[300][5] = "/tides/v0/stations"
    rows.insert(401, rows[400])
    return _csv(rows)


def send_some(ctx: Context, world: World, callers: list[Caller], seed: int) -> None:
    """What the pontoon's script sends, once it is connected again: what was called within a day before."""
    rows = _rows(ctx, world, callers, (ctx.now_us - DAY, DAY, SENT), f"{ctx.now:%Y%m%d}", seed)
    script = ctx.acting(Actor("The pontoon's script", frozenset({"operations"})))
    at_once.send(script, io.BytesIO(_csv(rows).encode()), "", leaving_out=False)


def _rows(
    ctx: Context,
    world: World,
    callers: list[Caller],
    when: tuple[int, int, int],
    named: str,
    seed: int,
) -> list[list[Any]]:
    """So many calls from an instant on, within so long, in the order they came."""
    begin_us, within_us, many = when
    with ctx.transaction() as session:
        whose = select(Application.id, Application.client_id).join(Consumer, Consumer.id == Application.consumer_id)
        clients = {application: client for application, client in session.execute(whose.where(Consumer.name == WHOSE))}  # noqa: C416
    caller = next(caller for caller in callers if caller.application_id in clients)
    known, weights = world.called[caller.product_id]
    dice = random.Random(seed)
    rows: list[list[Any]] = []
    for n, at in enumerate(sorted(dice.randrange(within_us // SECOND) for _ in range(many))):
        op = known[bisect(weights, dice.random() * weights[-1])]
        moment = moment_of(begin_us + at * SECOND).isoformat(timespec="seconds").replace("+00:00", "Z")
        path, size = dice.choice(op.paths), dice.randrange(900, 2400)
        rows.append([SOURCE, f"{named}-{n:05d}", moment, clients[caller.application_id], op.method, path, 200, size])
    return rows


def _csv(rows: list[list[Any]]) -> str:
    out = io.StringIO()
    csv.writer(out).writerows([HEAD, *rows])
    return out.getvalue()
