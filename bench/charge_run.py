"""Drafting a month of 10,000 subscriptions, each with its fee and a month of usage, beside one SQL GROUP BY of the same
sums with a bulk insert of the same lines.

    python -m bench.charge_run [SUBSCRIPTIONS]
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, date, datetime
from functools import partial
from pathlib import Path

from sqlalchemy import Engine, text

from calm_tariff.core.periods import instant_of
from calm_tariff.launch.database import Database
from calm_tariff.services.base.context import context_for
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import upgrade
from calm_tariff.store.tables import metadata
from tests.office import Clock, Office
from tests.ports import free_port
from tests.processes import HERE

SUBSCRIPTIONS, DAYS, HOURS, ROUNDS = 10_000, 30, (6, 9, 14, 20), 3
APART = 1_000_000
OPTIONS = (
    "--innodb-flush-log-at-trx-commit=0",
    "--skip-innodb-doublewrite",
    "--innodb-buffer-pool-size=2G",
    "--innodb-log-file-size=2G",
)
MONTH = date(2026, 9, 1)
COPIED = {"consumer": ("name", "look", "shape"), "application": ("client_id",), "subscription": (), "stay": ()}
NAMING = {"consumer_id", "application_id", "subscription_id", "stay_id"}


def measure(subscriptions: int = SUBSCRIPTIONS) -> dict[str, float]:
    """Seconds of both, the best of three rounds that take turns, and their ratio."""
    with tempfile.TemporaryDirectory() as folder, _office(Path(folder)) as (office, made):
        _multiply(made, office, subscriptions)
        ours, theirs, lines = [], [], 0
        for _ in range(ROUNDS):
            ours.append(timed(lambda: charging.run(office.finance, MONTH)))
            rows = _lines(made)
            theirs.append(timed(partial(_bare, made, rows)))
            lines = len(rows)
            assert lines == 2 * subscriptions, lines
        return {"lines": lines, "run": min(ours), "bare": min(theirs), "ratio": min(ours) / min(theirs)}


@contextmanager
def _office(folder: Path) -> Iterator[tuple[Office, Engine]]:
    """One consumer on a plan with a fee and a graduated price, and the month over."""
    folder.chmod(0o755)
    database = Database(folder / "mariadb", free_port(), OPTIONS)
    database.start()
    try:
        url = database.make_schema("calm_charged")
        upgrade(url)
        database.let_serve("calm_charged", metadata.tables)
        made = engine(url)
        clock = Clock(datetime(2026, 8, 20, 12, tzinfo=UTC))
        office = Office.open(context_for(made, clock=clock, reach=HERE, sealing_secret="s"))
        with made.begin() as connection:  # one is enough to be multiplied
            for table in ("stay", "subscription"):
                key = "subscription_id" if table == "stay" else "id"
                connection.execute(text(f"DELETE FROM `{table}` WHERE `{key}` = {office.consumers[1].subscription}"))
        clock.now = datetime(2026, 10, 2, 9, tzinfo=UTC)
        yield office, made
    finally:
        database.stop()


def _multiply(made: Engine, office: Office, subscriptions: int) -> None:
    """Put so many like the first beside it, each with its own sums of hours and days."""
    with made.begin() as connection:
        for table, named in COPIED.items():
            columns = metadata.tables[table].columns
            names = ", ".join(f"`{column.name}`" for column in columns if column.computed is None)
            values = ", ".join(_copied(c.name, named) for c in columns if c.computed is None)
            which = f"c.id = {_first(office)[table]}"
            connection.execute(
                text(
                    f"INSERT INTO `{table}` ({names}) SELECT {values} FROM `{table}` c"
                    f" JOIN seq_1_to_{subscriptions - 1} s WHERE {which}"
                )
            )
        begin = instant_of(datetime(2026, 9, 1, tzinfo=UTC))
        day, hour = 86_400_000_000, 3_600_000_000
        who = f"SELECT id AS stay_id, subscription_id FROM stay WHERE id % {APART} = {_first(office)['stay']}"
        operation, meter, key = office.operations["GET /stations/{id}"], office.meter, office.consumers[0].key
        for at in HOURS:
            connection.execute(
                text(
                    f"INSERT INTO hourly_usage SELECT {begin} + d.seq * {day} + {at} * {hour}, w.subscription_id,"
                    f" w.stay_id, {key}, {operation}, {meter}, 3 + w.stay_id % 7, 3 + w.stay_id % 7"
                    f" FROM seq_0_to_{DAYS - 1} d JOIN ({who}) w"
                )
            )
        many = len(HOURS)
        connection.execute(
            text(
                f"INSERT INTO daily_usage SELECT {begin} + d.seq * {day}, w.subscription_id, w.stay_id, {meter},"
                f" {many} * (3 + w.stay_id % 7), {many} * (3 + w.stay_id % 7)"
                f" FROM seq_0_to_{DAYS - 1} d JOIN ({who}) w"
            )
        )
        connection.execute(text("CREATE TABLE bare_line LIKE money_line"))
    with made.begin() as connection:
        connection.execute(text("ANALYZE TABLE consumer, application, subscription, stay, hourly_usage, daily_usage"))


def _first(office: Office) -> dict[str, int]:
    first = office.consumers[0]
    return {
        "consumer": first.member.own_consumer,
        "application": first.application,
        "subscription": first.subscription,
        "stay": first.stay,
    }


def _copied(column: str, named: tuple[str, ...]) -> str:
    if column == "id" or column in NAMING:
        return f"c.`{column}` + s.seq * {APART}"
    return f"LEFT(CONCAT(s.seq, ' ', c.`{column}`), 40)" if column in named else f"c.`{column}`"


def _lines(made: Engine) -> list[tuple[object, ...]]:
    """The lines that were drafted, as they are to be inserted once more."""
    with made.connect() as connection:
        return [tuple(row) for row in connection.exec_driver_sql("SELECT * FROM money_line")]


def _bare(made: Engine, rows: list[tuple[object, ...]]) -> None:
    """The sums of all in one query, and their lines in bulk."""
    begin, end = (instant_of(datetime(2026, month, 1, tzinfo=UTC)) for month in (9, 10))
    with made.begin() as connection:
        connection.exec_driver_sql("TRUNCATE TABLE bare_line")
        sums = connection.exec_driver_sql(
            "SELECT subscription_id, stay_id, meter_id, SUM(units) FROM hourly_usage"
            f" WHERE hour_us >= {begin} AND hour_us < {end} GROUP BY subscription_id, stay_id, meter_id"
        ).all()
        assert len(sums) == len(rows) // 2
        places = ", ".join(["%s"] * len(rows[0]))
        connection.exec_driver_sql(f"INSERT INTO bare_line VALUES ({places})", rows)


def timed(work: Callable[[], object]) -> float:
    """Seconds that some work takes."""
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


if __name__ == "__main__":
    print(measure(int(sys.argv[1]) if len(sys.argv) > 1 else SUBSCRIPTIONS))
