"""One MariaDB server for the run; a clean installation for each test that asks for one."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from httpx._config import DEFAULT_TIMEOUT_CONFIG
from hypothesis import settings
from sqlalchemy import Engine

from calm_tariff.services.base.context import Context, context_for
from calm_tariff.store.base import locking
from tests.office import Clock, Office
from tests.opened import OpenedOffice
from tests.ports import RUNS, free_port, run_of_its_own, take_part_of_ports
from tests.processes import HERE, PATIENCE, RedisServer
from tests.servers import QUICK, RunDatabase, emptied

TESTS = Path(__file__).parent
SERVER: pytest.StashKey[RunDatabase] = pytest.StashKey()
PORTS: pytest.StashKey[tuple[int, int]] = pytest.StashKey()

# What is tested is what is computed, not how quick the machine is at the moment.
settings.register_profile("untimed", deadline=None)
settings.load_profile("untimed")

# Nor are answers waited for only the five seconds that httpx gives them by itself.
for part in ("connect", "read", "write", "pool"):
    setattr(DEFAULT_TIMEOUT_CONFIG, part, PATIENCE)

# Rows are locked in one order, or the test fails that does otherwise.
locking.strict = True


LONGEST_FIRST = ("browser", "gateway", "launch", "worker", "edge", "services", "store", "formats", "core")


def pytest_sessionstart(session: pytest.Session) -> None:
    """Several workers share one server, which whoever started them holds."""
    config = session.config
    if worker := getattr(config, "workerinput", None):
        take_part_of_ports(*worker["ports"])
        return
    run, workers = run_of_its_own(), config.getoption("numprocesses", None) or 0
    config.stash[PORTS] = run * (workers + 1), RUNS * (workers + 1)  # its first part is of whoever starts the workers
    take_part_of_ports(*config.stash[PORTS])
    if workers:
        folder = Path(tempfile.mkdtemp(prefix="calm-tests-"))
        folder.chmod(0o755)  # the server may run as a user of its own
        config.stash[SERVER] = server = RunDatabase(folder / "mariadb", free_port(), QUICK)
        server.start()


@pytest.hookimpl(optionalhook=True)
def pytest_configure_node(node) -> None:
    server = node.config.stash[SERVER]
    node.workerinput["database"] = (str(server.home), server.port)
    first, parts = node.config.stash[PORTS]
    workers = parts // RUNS - 1
    node.workerinput["ports"] = (first + 1 + int(node.gateway.id.removeprefix("gw")) % workers, parts)


def pytest_sessionfinish(session: pytest.Session) -> None:
    if server := session.config.stash.get(SERVER, None):
        server.stop()
        shutil.rmtree(server.home.parent, ignore_errors=True)


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_make_scheduler(config: pytest.Config, log):
    """All of a file is done by one worker, and all stories in the browser: they use one product that runs."""
    from xdist.scheduler import LoadScopeScheduling  # where tests run one after the other, it may be missing

    class ByRoom(LoadScopeScheduling):
        def _split_scope(self, nodeid: str) -> str:
            file = nodeid.partition("::")[0]
            return "browser" if "/browser/" in file else file

    config.option.loadscopereorder = False
    return ByRoom(config, log)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What takes long begins first, so that no worker is left with it at the end."""
    places = {name: place for place, name in enumerate(LONGEST_FIRST)}
    items.sort(key=lambda item: places.get(item.path.relative_to(TESTS).parts[0], 0))


@pytest.fixture(scope="session")
def database(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[RunDatabase]:
    """A real server in a folder of its own, gone after the run."""
    shared = getattr(request.config, "workerinput", None)
    if shared:
        home, port = shared["database"]
        yield RunDatabase(Path(home), port, worker=shared["workerid"])
        return
    server = RunDatabase(Path(tmp_path_factory.mktemp("mariadb")), free_port(), QUICK)
    server.start()
    yield server
    server.stop()


@pytest.fixture(scope="session")
def migrated(database: RunDatabase) -> Engine:
    """A schema made by the migrations."""
    return database.lend().engine


@pytest.fixture
def ctx(migrated: Engine) -> Context:
    """An empty installation, at a settable time."""
    emptied(migrated)
    return context_for(
        migrated,
        clock=Clock(),
        signing_secret="a secret of this test's",
        sealing_secret="another of this test's",
        reach=HERE,
    )


@pytest.fixture(scope="session")
def opened() -> list[OpenedOffice]:
    """The office as it was first opened in this run, once it has been."""
    return []


@pytest.fixture
def office(ctx: Context, migrated: Engine, opened: list[OpenedOffice]) -> Office:
    """A small provider with one API, one meter, one product of two plans, and two consumers."""
    if not opened:
        made = Office.open(ctx)
        opened.append(OpenedOffice.kept(made, migrated))
        return made
    return opened[0].again(ctx, migrated)


@pytest.fixture(scope="session")
def redis_url(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """A Redis server of the run's own, which keeps nothing on disk."""
    server = RedisServer(tmp_path_factory.mktemp("redis"))
    server.start()
    yield server.url
    server.kill()
