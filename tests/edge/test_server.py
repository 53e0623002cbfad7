"""The server under an application: it sleeps while nobody asks, and wakes for the date and to stop."""

from __future__ import annotations

import signal
from collections.abc import Iterator
from email.utils import parsedate_to_datetime
from threading import Thread

import httpx
import pytest
import uvicorn
from starlette.applications import Starlette

from calm_tariff.edge import server
from calm_tariff.edge.server import Server
from tests.ports import free_port
from tests.processes import PATIENCE, wait_for


@pytest.fixture
def served() -> Iterator[tuple[Server, Thread]]:
    """A server that runs in a thread of its own."""
    config = uvicorn.Config(Starlette(), port=free_port(), log_config=None, lifespan="off")
    made = Server(config)
    thread = Thread(target=made.run)
    thread.start()
    wait_for(lambda: made.started)
    yield made, thread
    made.handle_exit(signal.SIGTERM, None)
    thread.join(PATIENCE)


def told_date(of: Server) -> str:
    return httpx.get(f"http://127.0.0.1:{of.config.port}/").headers["date"]


def test_told_to_stop_it_stops_however_long_it_would_have_slept(monkeypatch, served: tuple[Server, Thread]) -> None:
    made, thread = served
    # The first second is over; from then on it would sleep for an hour.
    monkeypatch.setattr(server, "DATE_SECONDS", 3600)
    before = told_date(made)
    wait_for(lambda: told_date(made) != before)
    assert thread.is_alive()
    made.handle_exit(signal.SIGTERM, None)
    thread.join(PATIENCE)
    assert not thread.is_alive()


def test_the_date_it_tells_goes_on(served: tuple[Server, Thread]) -> None:
    made, _ = served
    first = told_date(made)
    later = wait_for(lambda: (now := told_date(made)) != first and now)
    assert parsedate_to_datetime(later) > parsedate_to_datetime(first)


def test_a_port_that_is_taken_ends_it_with_an_error(served: tuple[Server, Thread]) -> None:
    made, _ = served
    second = Server(uvicorn.Config(Starlette(), port=made.config.port, log_config=None, lifespan="off"))
    with pytest.raises(SystemExit) as ended:
        second.run()
    assert ended.value.code
