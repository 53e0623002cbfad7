"""The API on loopback, for what the command line asks it."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from threading import Thread

import uvicorn

from calm_tariff.settings import Settings
from calm_tariff.web import SERVED, create_app
from tests.office import Office
from tests.ports import free_port
from tests.processes import PATIENCE


@contextmanager
def on_loopback(office: Office) -> Iterator[str]:
    """The address at which an office's API answers."""
    port = free_port()
    server = uvicorn.Server(uvicorn.Config(create_app(office.ctx, Settings(web_port=port)), port=port, **SERVED))
    web = Thread(target=server.run, daemon=True)
    web.start()
    until = time.monotonic() + PATIENCE
    while not server.started and time.monotonic() < until:
        time.sleep(0.02)
    try:
        yield f"http://127.0.0.1:{port}"
    finally:
        server.should_exit = True
        web.join(PATIENCE)
