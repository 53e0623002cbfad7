"""One MariaDB server for the run; a clean installation for each test that asks for one."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings
from sqlalchemy import Engine, text

from calm_tariff.launch.children import free_port
from calm_tariff.launch.database import Database
from calm_tariff.services.base.context import Context, context_for
from calm_tariff.store.base import locking
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import upgrade
from calm_tariff.store.tables import metadata
from tests.office import Clock, Office
from tests.processes import HERE, RedisServer

# What is tested is what is computed, not how quick the machine is at the moment.
settings.register_profile("untimed", deadline=None)
settings.load_profile("untimed")

# Rows are locked in one order, or the test fails that does otherwise.
locking.strict = True


@pytest.fixture(scope="session")
def database(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Database]:
    """A real server in a folder of its own, gone after the run."""
    # Nothing here must outlive a power cut, so the disk need not be waited for.
    quick = ("--innodb-flush-log-at-trx-commit=0", "--innodb-doublewrite=0")
    server = Database(Path(tmp_path_factory.mktemp("mariadb")), free_port(), quick)
    server.start()
    yield server
    server.stop()


@pytest.fixture(scope="session")
def migrated(database: Database) -> Engine:
    """A schema made by the migrations."""
    url = database.make_schema("calm_test")
    upgrade(url)
    return engine(url)


@pytest.fixture
def ctx(migrated: Engine) -> Context:
    """An empty installation, at a settable time."""
    with migrated.begin() as connection:
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 0"))
        for table in metadata.tables:
            connection.execute(text(f"DELETE FROM `{table}`"))
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 1"))
    return context_for(
        migrated, clock=Clock(), signing_secret="a secret of this test's", sealing_secret="another of this test's",
        reach=HERE,
    )  # fmt: skip


@pytest.fixture
def office(ctx: Context) -> Office:
    """A small provider with one API, one meter, one product of two plans, and two consumers."""
    return Office.open(ctx)


@pytest.fixture(scope="session")
def redis_url(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """A Redis server of the run's own, which keeps nothing on disk."""
    server = RedisServer(tmp_path_factory.mktemp("redis"))
    server.start()
    yield server.url
    server.kill()
