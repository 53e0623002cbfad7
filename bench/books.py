"""Looking through the books over ten million calls, in seconds, beside a bare reading of the table they are in; and how
much of it is the one statement that opens what each call counted.

    python -m bench.books [CALLS]
"""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from sqlalchemy import Engine, text

from bench.at_scale import OPTIONS, multiply
from bench.charge_run import timed
from calm_tariff.launch.database import Database
from calm_tariff.services.base.context import context_for
from calm_tariff.services.serve import history
from calm_tariff.services.settle.books import audits, recorded
from calm_tariff.services.settle.books.looking import looking
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import upgrade
from calm_tariff.store.tables import metadata
from tests.office import START, Clock, Office
from tests.ports import free_port
from tests.processes import HERE

CALLS, TIMES = 10_000_000, 1000


def measure(calls: int = CALLS) -> dict[str, float]:
    """Seconds of the audit, of its one long statement alone, and of a bare reading of all calls."""
    with tempfile.TemporaryDirectory() as folder, _office(Path(folder), calls // TIMES) as (office, made):
        multiply(made, lambda words: print(words, file=sys.stderr, flush=True), TIMES)
        with made.connect() as connection:
            many = connection.execute(text("SELECT COUNT(*) FROM `call`")).scalar_one()
            read = text("SELECT COUNT(*), SUM(bytes_out) FROM `call` IGNORE INDEX (ix_call_at)")
            bare = min(timed(lambda: connection.execute(read).all()) for _ in range(2))
        with looking(office.ctx) as of:
            opened = timed(lambda: recorded.calls(of))
        found: list[Any] = []
        whole = timed(lambda: found.append(audits.look_through(office.finance)))
        assert not found[0].differences, found[0].differences[:3]
        return {"calls": many, "audit": whole, "opened": opened, "bare": bare, "ratio": whole / bare}


@contextmanager
def _office(folder: Path, calls: int) -> Iterator[tuple[Office, Engine]]:
    """Two consumers that made so many calls in a month."""
    folder.chmod(0o755)
    database = Database(folder / "mariadb", free_port(), (*OPTIONS, "--innodb-buffer-pool-size=6G"))
    database.start()
    try:
        url = database.make_schema("calm_books")
        upgrade(url)
        database.let_serve("calm_books", metadata.tables)
        made = engine(url)
        clock = Clock()
        office = Office.open(context_for(made, clock=clock, reach=HERE, sealing_secret="s"))
        clock.now = datetime(2026, 10, 2, 9, tzinfo=UTC)
        apart = timedelta(days=20) / calls
        made_by = (office.call(office.consumers[n % 2], START + n * apart, n) for n in range(calls))
        history.take_in(office.ctx, made_by)
        yield office, made
    finally:
        database.stop()


if __name__ == "__main__":
    print(measure(int(sys.argv[1]) if len(sys.argv) > 1 else CALLS))
