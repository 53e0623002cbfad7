"""Recording the demo's history on both cores: consumers apart, because their counts are apart."""

from __future__ import annotations

import multiprocessing
import queue
import signal
from collections.abc import Callable
from datetime import datetime
from typing import Any

from calm_tariff.demo.history import Caller, World, recorded
from calm_tariff.services.base.context import Context, context_for
from calm_tariff.services.serve import history
from calm_tariff.store.base.connecting import engine

CORES = 2


def record(
    ctx: Context,
    world: World,
    callers: list[Caller],
    start: datetime,
    now_us: int,
    seed: int,
    told: Callable[[int], None],
) -> int:
    """Make up and record the calls of all callers; returns how many.

    Limits that count everybody together would tie consumers to each other; the scenario has none.
    """
    if any(limit.counted_per == "everyone" for limit in (*world.feed.provider_limits, *world.feed.api_limits)):
        raise ValueError("a limit that counts everyone cannot be kept on two cores")
    history.refuse_second(ctx)
    spawn = multiprocessing.get_context("spawn")
    progress: Any = spawn.Queue()
    with ctx.sessions() as session:
        url = session.get_bind().engine.url.render_as_string(hide_password=False)
    workers = [
        spawn.Process(target=_record, args=(url, world, share, start, now_us, seed + n, n, progress), daemon=True)
        for n, share in enumerate(_shares(callers))
    ]
    for worker in workers:
        worker.start()
    done: dict[int, int] = {}
    while any(worker.is_alive() for worker in workers) or not progress.empty():
        try:
            n, count = progress.get(timeout=0.2)
        except queue.Empty:
            continue
        done[n] = count
        told(sum(done.values()))
    if any(worker.exitcode for worker in workers):
        raise RuntimeError("a process that records the demo's calls has failed; its reason is above")
    return sum(done.values())


def _shares(callers: list[Caller]) -> list[list[Caller]]:
    """Callers in as many parts as there are cores, of about the same load, each consumer in one part."""
    load: dict[int, float] = {}
    for caller in callers:
        load[caller.consumer_id] = load.get(caller.consumer_id, 0) + caller.traffic.daily * caller.share
    parts: list[tuple[float, set[int]]] = [(0, set()) for _ in range(CORES)]
    for consumer in sorted(load, key=lambda c: -load[c]):
        lightest = min(range(CORES), key=lambda n: parts[n][0])
        total, members = parts[lightest]
        parts[lightest] = (total + load[consumer], members | {consumer})
    return [[c for c in callers if c.consumer_id in members] for _, members in parts]


def _record(
    url: str, world: World, callers: list[Caller], start: datetime, now_us: int, seed: int, n: int, progress: Any
) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for whoever started this, who ends it
    ctx = context_for(engine(url))
    calls = recorded(world, callers, start, now_us, seed)
    count = history.begin_with(ctx, calls, lambda done: progress.put((n, done)))
    progress.put((n, count))
