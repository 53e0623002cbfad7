"""Does a gateway ever die at its start? Starts one again and again over an installation of many subscriptions, on a
machine that is kept busy, with a journal that the one before left behind; says how each ended.

    PYTHONPATH=. .venv/bin/python -m bench.starts 200
"""

from __future__ import annotations

import multiprocessing
import os
import signal
import sys
import tempfile
import time
from collections import Counter
from datetime import UTC, datetime, timedelta
from pathlib import Path

import httpx
from sqlalchemy import Engine

from calm_tariff.gateway.recording.journal import Journal
from calm_tariff.launch.children import die_with_parent
from calm_tariff.launch.database import Database
from calm_tariff.services.base.context import context_for
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import upgrade
from tests.office import Office
from tests.ports import free_port
from tests.processes import HERE, Processes

SUBSCRIPTIONS = 150
BUSY = 4
WATCHED_SECONDS = 2.0
CALLS = 60
LEFT = 3000


def _busy() -> None:
    die_with_parent(signal.SIGKILL)()
    while True:
        sum(range(10_000))


def _office(made: Engine) -> Office:
    office = Office.open(context_for(made, reach=HERE))
    for n in range(SUBSCRIPTIONS - len(office.consumers)):
        office.consumers.append(office.admit(f"Boat-{n}", ("Skiff", "Ketch")[n % 2]))
    return office


def _leave_behind(running: Processes, office: Office, n: int) -> None:
    """A journal as a gateway leaves it that died in the middle of much work."""
    journal = Journal(running.settings.journal / "gateway-1")
    journal.start()
    now = datetime.now(UTC)
    for k in range(LEFT):
        consumer = office.consumers[k % SUBSCRIPTIONS]
        journal.append(office.call(consumer, now - timedelta(milliseconds=k), n * LEFT + k, source="gateway-1"))
    journal.close_segment()


def measure(starts: int) -> Counter[str]:
    """How each start ended: "well", or by which signal or status it died within the time it was watched."""
    ended: Counter[str] = Counter()
    with tempfile.TemporaryDirectory() as folder:
        database = Database(Path(folder) / "mariadb", free_port(), ("--innodb-flush-log-at-trx-commit=0",))
        database.start()
        busy = [multiprocessing.Process(target=_busy, daemon=True) for _ in range(BUSY)]
        try:
            url = database.make_schema("calm_starts")
            upgrade(url)
            office = _office(engine(url))
            for one in busy:
                one.start()
            running = Processes(Path(folder) / "var", url)
            for n in range(starts):
                ended[_one(running, office, n)] += 1
                print(f"{n + 1}: {dict(ended)}", flush=True)
        finally:
            for one in busy:
                if one.is_alive():
                    one.kill()
            database.stop()
    return ended


def _one(running: Processes, office: Office, n: int) -> str:
    _leave_behind(running, office, n)
    running.start("gateway")
    process = running.running["gateway"]
    with httpx.Client(timeout=30) as client:
        for k in range(CALLS):
            key = office.consumers[(n * CALLS + k) % SUBSCRIPTIONS].secret
            client.get(f"{running.gateway}/tides/v1/stations/x", headers={"X-API-Key": key})
    deadline = time.monotonic() + WATCHED_SECONDS
    while time.monotonic() < deadline and process.poll() is None:
        time.sleep(0.05)
    died = process.poll()
    running.running.pop("gateway")
    if died is not None:
        return f"died of {signal.Signals(-died).name if died < 0 else died}"
    # Every other one leaves a journal behind that is not shipped.
    process.send_signal((signal.SIGTERM, signal.SIGKILL)[n % 2])
    left = process.wait(60)
    return "well" if left in (0, -signal.SIGKILL) else f"ended with {left}"


if __name__ == "__main__":
    os.environ["PATH"] += ":/usr/sbin"
    measure(int(sys.argv[1]) if len(sys.argv) > 1 else 200)
