"""Gateway throughput and p99 beside the bare forwarder: the same load, taking turns."""

from __future__ import annotations

import asyncio
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from statistics import median, quantiles

import aiohttp

from calm_tariff.launch.database import Database
from calm_tariff.services.base.context import context_for
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import upgrade
from tests.office import Office, terms
from tests.ports import free_port
from tests.processes import HERE, Processes, answers, wait_for

AT_ONCE = 16
CALLS = 3000
PACED_CALLS = 2000
ROUNDS = 9
PATH = "/tides/v1/stations/lm-01"


async def load(address: str, headers: dict[str, str]) -> tuple[float, float]:
    """Calls a second and the 99th percentile in seconds."""
    took: list[float] = []
    left = iter(range(CALLS))
    async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=0)) as session:

        async def caller() -> None:
            for _ in left:
                begin = time.perf_counter()
                async with session.get(address, headers=headers) as answer:
                    await answer.read()
                    assert answer.status == 200, answer.status
                took.append(time.perf_counter() - begin)

        begin = time.perf_counter()
        await asyncio.gather(*(caller() for _ in range(AT_ONCE)))
        whole = time.perf_counter() - begin
    return CALLS / whole, quantiles(took, n=100)[98]


async def paced(address: str, headers: dict[str, str], per_second: float) -> float:
    """The 99th percentile in seconds of calls that come evenly, whether or not earlier ones are answered."""
    took: list[float] = []
    async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(limit=0)) as session:
        start = time.perf_counter()

        async def call(due: float) -> None:
            async with session.get(address, headers=headers) as answer:
                await answer.read()
            took.append(time.perf_counter() - due)

        async with asyncio.TaskGroup() as group:
            for n in range(PACED_CALLS):
                due = start + n / per_second
                await asyncio.sleep(max(0.0, due - time.perf_counter()))
                group.create_task(call(due))
    return quantiles(took, n=100)[98]


def measure() -> dict[str, float]:
    """Medians over rounds that take turns; half load is half of what the gateway did in the same round."""
    with tempfile.TemporaryDirectory() as folder:
        database = Database(Path(folder) / "mariadb", free_port())
        database.start()
        url = database.make_schema("calm_bench")
        upgrade(url)
        processes = Processes(Path(folder), url)
        back_end, bare = free_port(), free_port()
        office = Office.open(
            context_for(engine(url), reach=HERE),
            f"http://127.0.0.1:{back_end}",
            {"Ketch": terms(calls=10**6, burst=10**6, units=10**9)},
        )
        started = [
            subprocess.Popen([sys.executable, "-m", "bench.back_end", str(back_end)]),
            subprocess.Popen([sys.executable, "-m", "bench.bare_forwarder", str(bare), f"http://127.0.0.1:{back_end}"]),
        ]
        try:
            processes.start("gateway")
            wait_for(lambda: answers(f"http://127.0.0.1:{bare}/"))
            headers = {"X-API-Key": office.consumers[0].secret}
            gateway, forwarder = processes.gateway + PATH, f"http://127.0.0.1:{bare}{PATH}"
            asyncio.run(load(gateway, headers))  # both are warm before anything is measured
            asyncio.run(load(forwarder, headers))
            pairs, halves = [], []
            for _ in range(ROUNDS):
                ours = asyncio.run(load(gateway, headers))
                theirs = asyncio.run(load(forwarder, headers))
                pairs.append((ours, theirs))
                half = ours[0] / 2
                halves.append(asyncio.run(paced(gateway, headers, half)) / asyncio.run(paced(forwarder, headers, half)))
        finally:
            processes.stop()
            for process in started:
                process.terminate()
                process.wait()
            database.stop()
    return {
        "calls_a_second": median(a[0] for a, _ in pairs),
        "baseline_calls_a_second": median(b[0] for _, b in pairs),
        "throughput_ratio": median(a[0] / b[0] for a, b in pairs),
        "p99_ratio": median(a[1] / b[1] for a, b in pairs),
        "half_load_p99_ratio": median(halves),
    }
