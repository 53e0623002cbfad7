"""Calls lie in partitions by month, and no server that dies while some are made loses one."""

from __future__ import annotations

import random
import time
from collections.abc import Iterator
from datetime import date
from pathlib import Path
from threading import Thread

import pytest
from sqlalchemy import Connection, create_engine, text
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.pool import NullPool

from calm_tariff.core.periods import DAY, instant_of, month_step
from calm_tariff.store.migrate import upgrade
from calm_tariff.store.serve import call_queries, partitions
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.serve.call_writer import record
from tests.office import START, Office
from tests.ports import free_port
from tests.servers import RunDatabase

HELD = text(
    "SELECT partition_name, table_rows FROM information_schema.partitions "
    "WHERE table_schema = DATABASE() AND table_name = 'call' ORDER BY partition_ordinal_position"
)


@pytest.fixture
def connection(database: RunDatabase) -> Iterator[Connection]:
    """A schema of its own, which may be altered."""
    url = database.make_schema("calm_partitions")
    upgrade(url)
    with create_engine(url, poolclass=NullPool).connect() as made:
        yield made
    database.drop_schema(database.own("calm_partitions"))


def of(name: str) -> date:
    """The month of a partition."""
    return date(int(name[1:5]), int(name[5:]), 1)


def started(connection: Connection) -> date:
    """The month in which the installation was started, as its partitions tell."""
    return month_step(of(names(connection)[-2]), -partitions.AHEAD)


def names(connection: Connection) -> list[str]:
    return [name for name, _ in connection.execute(HELD)]


def put(connection: Connection, at_us: int) -> None:
    columns = dict.fromkeys(("status", "wait_us", "took_us", "bytes_in", "bytes_out", "decide_us", "back_end_us"), "0")
    columns |= dict.fromkeys(("reserved", "decided_us", "decided_order"), "0") | {"at_us": str(at_us)}
    columns |= dict.fromkeys(("checks", "remarks"), "'[]'")
    columns |= dict.fromkeys(("units", "told", "carried", "counted", "reported", "sent"), "'{}'")
    columns |= dict.fromkeys(("source", "environment", "verdict", "method", "path", "credential"), "'x'")
    columns["call_id"] = f"'{at_us:026d}'"
    listed = ", ".join(f"`{name}`" for name in columns)
    connection.execute(text(f"INSERT INTO `call` ({listed}) VALUES ({', '.join(columns.values())})"))
    connection.commit()


def test_months_of_two_years_to_come_are_there_from_the_first_start_in_order(connection: Connection) -> None:
    made = names(connection)
    assert len(made) == partitions.BEFORE + 1 + partitions.AHEAD + 1
    assert made == [*sorted(made[:-1]), "beyond"]
    assert of(made[0]) == month_step(started(connection), -partitions.BEFORE)


def test_a_later_start_adds_what_is_missing_and_leaves_what_holds_calls(connection: Connection) -> None:
    before = names(connection)
    put(connection, instant_of(START))
    assert partitions.ensure(connection, started(connection)) == []
    later = month_step(started(connection), 14)
    made = partitions.ensure(connection, later)
    assert len(made) == 14 and made == sorted(made) and min(made) > before[-2]
    assert names(connection) == [*before[:-1], *made, "beyond"]
    assert connection.scalar(text("SELECT COUNT(*) FROM `call`")) == 1
    assert partitions.ensure(connection, later) == []


def test_each_call_lies_in_the_month_of_its_instant_by_utc(connection: Connection) -> None:
    month = month_step(started(connection), 2)
    begin = instant_of(START.replace(year=month.year, month=month.month, day=1, hour=0))
    for at in (begin - 1, begin, begin + DAY):
        put(connection, at)
    counted = {
        name: connection.scalar(text(f"SELECT COUNT(*) FROM `call` PARTITION ({name})"))
        for name in (f"p{month_step(month, -1):%Y%m}", f"p{month:%Y%m}")
    }
    assert list(counted.values()) == [1, 2]


def test_calls_beyond_all_months_are_kept_there_and_never_dropped(connection: Connection) -> None:
    put(connection, 4_000_000_000_000_000)
    assert partitions.ensure(connection, month_step(started(connection), 30)) == []
    assert connection.scalar(text("SELECT COUNT(*) FROM `call` PARTITION (beyond)")) == 1


def test_a_start_that_broke_off_in_between_is_made_whole_by_the_next(connection: Connection) -> None:
    connection.execute(text("ALTER TABLE `call` DROP PARTITION beyond"))
    assert partitions.ensure(connection, started(connection)) == []
    assert names(connection)[-1] == "beyond"


def test_calls_are_found_over_several_partitions(office: Office) -> None:
    one = office.consumers[0]
    at = [START.replace(month=month) for month in (7, 9, 12)]
    with office.ctx.transaction() as session:
        record(session, [office.call(one, moment, n) for n, moment in enumerate(at)], START)
        assert call_queries.count(session, CallFilter(since_us=instant_of(at[0]))) == 3
        assert call_queries.count(session, CallFilter(since_us=instant_of(at[1]))) == 2


def test_a_server_killed_while_partitions_are_made_keeps_every_call(tmp_path: Path) -> None:
    dice = random.Random(5)
    server = RunDatabase(tmp_path / "mariadb", free_port())
    server.start()
    url = server.make_schema("calm_killed")
    upgrade(url)
    engine = create_engine(url, poolclass=NullPool)
    reached = [date.today().replace(day=1)]

    def make() -> None:
        try:
            with engine.connect() as connection:
                while True:
                    reached[0] = month_step(reached[0], 1)
                    partitions.ensure(connection, reached[0])
        except SQLAlchemyError:
            pass  # it was killed

    kept = 0
    try:
        for _ in range(6):
            with engine.connect() as connection:
                put(connection, instant_of(START) + kept)
                kept += 1
            making = Thread(target=make)
            making.start()
            time.sleep(dice.uniform(0.05, 0.4))
            assert server.process
            server.process.kill()
            server.process.wait()
            making.join()
            server.start()
            with engine.connect() as connection:
                assert connection.scalar(text("SELECT COUNT(*) FROM `call`")) == kept
                partitions.ensure(connection, reached[0])
                assert names(connection)[-1] == "beyond"
    finally:
        server.stop()
