"""One and three gateways that share their counts in Redis, beside one that counts in memory."""

from __future__ import annotations

import asyncio
import itertools
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median

import aiohttp

from calm_tariff.launch.database import Database
from calm_tariff.services.base.context import context_for
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import upgrade
from tests.office import Office, terms
from tests.ports import free_port
from tests.processes import HERE, Processes, RedisServer, wait_for

CALLS, AT_ONCE, ROUNDS = 3000, 24, 5
PATH = "/tides/v1/stations/lm-01"


async def load(addresses: list[str], key: str) -> float:
    """Calls a second over gateways in turn."""
    turns, left = itertools.cycle(addresses), iter(range(CALLS))
    async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=0)) as session:

        async def caller() -> None:
            for _ in left:
                async with session.get(next(turns) + PATH, headers={"X-API-Key": key}) as answer:
                    await answer.read()
                    assert answer.status == 200, answer.status

        begun = time.perf_counter()
        await asyncio.gather(*(caller() for _ in range(AT_ONCE)))
        return CALLS / (time.perf_counter() - begun)


def measure() -> dict[str, float]:
    """Medians over rounds that take turns: one gateway in memory, one and three on Redis."""
    with tempfile.TemporaryDirectory() as folder:
        database, redis = Database(Path(folder) / "mariadb", free_port()), RedisServer(Path(folder) / "redis")
        database.start()
        redis.start()
        url = database.make_schema("calm_bench")
        upgrade(url)
        processes, back_end = Processes(Path(folder), url), free_port()
        office = Office.open(
            context_for(engine(url), reach=HERE),
            f"http://127.0.0.1:{back_end}",
            {"Ketch": terms(calls=10**6, burst=10**6, units=10**9)},
        )
        answering = subprocess.Popen([sys.executable, "-m", "bench.back_end", str(back_end)])
        addresses = {}
        try:
            for name in ("memory", "one", "two", "three"):
                port = free_port()
                processes.start(
                    "gateway",
                    name,
                    gateway_name=name,
                    gateway_port=port,
                    metrics_port=free_port(),
                    decisions_port=free_port(),
                    counters="" if name == "memory" else redis.url,
                )
                addresses[name] = f"http://127.0.0.1:{port}"
            key = office.consumers[0].secret
            shared = [addresses["one"], addresses["two"], addresses["three"]]
            wait_for(lambda: asyncio.run(load(shared, key)) > 0)
            rounds = [
                (
                    asyncio.run(load([addresses["memory"]], key)),
                    asyncio.run(load(shared[:1], key)),
                    asyncio.run(load(shared, key)),
                )
                for _ in range(ROUNDS)
            ]
        finally:
            processes.stop()
            answering.terminate()
            answering.wait()
            redis.kill()
            database.stop()
    return {
        "redis_ratio": median(one / memory for memory, one, _ in rounds),
        "three_ratio": median(three / one for _, one, three in rounds),
    }
