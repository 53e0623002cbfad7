"""Bringing in a million calls that another gateway counted, from the file to the sums they are charged by, beside a
bare LOAD DATA of the same rows into the same table."""

from __future__ import annotations

import csv
import random
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path

from sqlalchemy import Engine, select, text

from calm_tariff.launch.database import Database
from calm_tariff.services.base.context import context_for
from calm_tariff.services.serve.elsewhere import files, going_on
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import upgrade
from calm_tariff.store.serve import partitions
from calm_tariff.store.serve.file_loading import send, sending
from calm_tariff.store.serve.usage import Call
from calm_tariff.store.tables import metadata
from tests.office import START, Clock, Office
from tests.ports import free_port
from tests.processes import HERE

ROWS, CONSUMERS, DAYS, ROUNDS = 1_000_000, 24, 30, 3
OPTIONS = (
    "--innodb-flush-log-at-trx-commit=0",
    "--skip-innodb-doublewrite",
    "--innodb-buffer-pool-size=2G",
    "--innodb-log-file-size=2G",
)
COLUMNS = tuple(column.name for column in Call.__table__.columns)


def measure(rows: int = ROWS) -> dict[str, float]:
    """Seconds of both, the best of three rounds that take turns, and their ratio."""
    with tempfile.TemporaryDirectory() as folder, _database(Path(folder)) as (own, bare):
        office = _office(own)
        source = Path(folder) / "usage.csv"
        _write(source, office, rows)
        ours: list[float] = []
        theirs: list[float] = []
        for nth in range(ROUNDS):
            ours.append(_timed(lambda: _bring_in(office, source)))
            if nth == 0:
                _export(own, Path(folder) / "calls.tsv")
            _forget(own)
            theirs.append(_timed(lambda: _load(bare, Path(folder) / "calls.tsv")))
            _forget(bare)
        return {"rows": rows, "import": min(ours), "load": min(theirs), "ratio": min(ours) / min(theirs)}


@contextmanager
def _database(folder: Path) -> Iterator[tuple[Engine, Engine]]:
    folder.chmod(0o755)
    database = Database(folder / "mariadb", free_port(), OPTIONS)
    database.start()
    try:
        made = []
        for schema in ("calm_import", "calm_bare"):
            url = database.make_schema(schema)
            upgrade(url)
            database.let_serve(schema, metadata.tables)
            made.append(engine(url))
            with made[-1].begin() as connection:
                partitions.ensure(connection, START.date())
        yield made[0], made[1]
    finally:
        database.stop()


def _office(own: Engine) -> Office:
    office = Office.open(context_for(own, clock=Clock(), reach=HERE, sealing_secret="s", signing_secret="s"))
    for n in range(CONSUMERS - len(office.consumers)):
        office.consumers.append(office.admit(f"Consumer{n}", "Ketch"))
    office.clock.forward(days=DAYS + 1)
    return office


def _write(path: Path, office: Office, rows: int) -> None:
    """Calls in the order they came, as a gateway writes them."""
    dice = random.Random(7)
    with office.ctx.transaction() as session:
        clients = list(session.scalars(select(Application.client_id).order_by(Application.id)))
    apart = timedelta(days=DAYS) / rows
    with path.open("w", newline="") as file:
        out = csv.writer(file)
        out.writerow(("source", "id", "time", "application", "method", "path", "status", "bytes_out"))
        for n in range(rows):
            tides = "/tides" if dice.random() < 0.6 else ""
            path_ = f"/tides/v1/stations/lm-{dice.randrange(40):02d}{tides}"
            status = 200 if dice.random() < 0.97 else 404
            moment = (START + apart * n).astimezone(UTC).isoformat()
            out.writerow(("edge-2", f"{n:012x}", moment, dice.choice(clients), "GET", path_, status, 1200 + n % 900))


def _bring_in(office: Office, path: Path) -> None:
    with path.open("rb") as file:
        taken = files.take(office.finance, "usage.csv", file)
    going_on.go_on(office.ctx, taken.id)
    files.record(office.finance, taken.id, leaving_out=False)
    while going_on.go_on(office.ctx, taken.id):
        pass
    done = files.one(office.finance, taken.id)
    assert done.stage == "done", done
    assert done.recorded == done.rows, done


def _export(own: Engine, path: Path) -> None:
    """The rows as they are recorded, as LOAD DATA reads them."""
    names = ", ".join(f"`{name}`" for name in COLUMNS)
    with own.connect().execution_options(stream_results=True) as connection, path.open("w") as file:
        for row in connection.execute(text(f"SELECT {names} FROM `call` ORDER BY at_us, call_id")):
            file.write("\t".join("\\N" if cell is None else str(cell).replace("\\", "\\\\") for cell in row) + "\n")


def _load(bare: Engine, path: Path) -> None:
    with sending(bare) as by_file, by_file.begin() as connection:
        send(connection, path, Call, COLUMNS)


def _forget(of: Engine) -> None:
    with of.begin() as connection:
        for table in ("call", "hourly_usage", "hourly_outcomes", "hourly_verdicts", "daily_usage", "daily_verdicts"):
            connection.execute(text(f"TRUNCATE TABLE `{table}`"))


def _timed(work: Callable[[], None]) -> float:
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


if __name__ == "__main__":
    import sys

    print(measure(int(sys.argv[1]) if len(sys.argv) > 1 else ROWS), datetime.now(UTC))
