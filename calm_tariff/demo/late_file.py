"""A file of calls that another gateway counted, at the pontoon of Pelorus Cover's survey boats, which was cut off for a
week of the month charged last: left for a person to bring in by hand, and to see turn into late lines."""

from __future__ import annotations

import csv
import io
import random
from bisect import bisect
from datetime import date

from sqlalchemy import select

from calm_tariff.core.periods import HOUR, SECOND, day_start, moment_of, zone
from calm_tariff.demo.history import Caller, World
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Consumer

NAME, SOURCE, WHOSE = "late-usage.csv", "saltgrave-pontoon", "Pelorus Cover"
FIRST_DAY, DAYS, CALLS = 11, 7, 6000
HEAD = ("source", "id", "time", "application", "method", "path", "status", "bytes_out")


def late_file(ctx: Context, world: World, callers: list[Caller], month: date, seed: int) -> str:
    """The file as CSV. One of its rows names a path that is none, and one comes twice."""
    with ctx.transaction() as session:
        named = select(Application.id, Application.client_id).join(Consumer, Consumer.id == Application.consumer_id)
        clients = {application: client for application, client in session.execute(named.where(Consumer.name == WHOSE))}  # noqa: C416
    caller = next(caller for caller in callers if caller.application_id in clients)
    known, weights = world.called[caller.product_id]
    dice = random.Random(seed)
    begin = day_start(month.replace(day=FIRST_DAY), zone(world.feed.time_zone))
    rows = []
    for n, at in enumerate(sorted(dice.randrange(DAYS * 24 * HOUR // SECOND) for _ in range(CALLS))):
        op = known[bisect(weights, dice.random() * weights[-1])]
        moment = moment_of(begin + at * SECOND).isoformat(timespec="seconds").replace("+00:00", "Z")
        path = dice.choice(op.paths)
        client = clients[caller.application_id]
        rows.append([SOURCE, f"{month:%Y%m}-{n:05d}", moment, client, op.method, path, 200, dice.randrange(900, 2400)])
    rows[300][5] = "/tides/v0/stations"
    rows.insert(401, rows[400])
    out = io.StringIO()
    csv.writer(out).writerows([HEAD, *rows])
    return out.getvalue()
