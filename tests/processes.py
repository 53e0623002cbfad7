"""Real processes on loopback for tests: gateway, worker, stand-ins, web."""

from __future__ import annotations

import asyncio
import contextlib
import signal
import socket
import subprocess
import time
import urllib.error
import urllib.request
from collections.abc import Coroutine
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import httpx

from calm_tariff.core.reach import Reach
from calm_tariff.formats.callers import LiveCaller
from calm_tariff.launch.children import die_with_parent
from calm_tariff.services.serve.shipping import closed_segments
from calm_tariff.settings import Settings
from tests.forked import Forked
from tests.ports import free_port

ROOT = Path(__file__).parents[1]
# Back ends of tests are on this machine.
HERE = Reach(here=True)
# Seconds to wait for what a machine does in moments that has nothing else to do.
PATIENCE = 180.0
PORTS = ("web", "gateway", "standins", "mail", "metrics", "decisions")


def wait_for(what, seconds: float = PATIENCE):
    """Wait until something is true, and return it. Who does not answer yet is asked again."""
    deadline = time.monotonic() + seconds
    while True:
        try:
            found = what()
        except httpx.TransportError:
            found = None
        if found or time.monotonic() > deadline:
            assert found, f"not within {seconds} s"
            return found
        time.sleep(0.02)


def awaited(work: Coroutine[Any, Any, Any], seconds: float = 2 * PATIENCE) -> Any:
    """What a coroutine comes to, on a loop and in a thread of its own: a browser's loop may run in this one."""
    with ThreadPoolExecutor(1) as apart:
        return apart.submit(asyncio.run, asyncio.wait_for(work, seconds)).result()


def answers(address: str) -> bool:
    try:
        with urllib.request.urlopen(address, timeout=2) as answer:
            return answer.status == 200
    except (urllib.error.URLError, OSError):
        return False


@dataclass
class Processes:
    """Processes of one installation, on ports of their own."""

    var: Path
    url: str
    demo: bool = False
    more: dict[str, object] = field(default_factory=dict)
    running: dict[str, Forked] = field(default_factory=dict)
    callers: list[LiveCaller] = field(default_factory=list)
    late_usage: str = ""

    def __post_init__(self) -> None:
        ports = {f"{name}_port": free_port() for name in PORTS}
        self.settings = Settings(
            database_url=self.url,
            var=self.var,
            demo=self.demo,
            standins=True,
            proxy_token="a proxy's token",
            signing_secret="a secret of this test's",
            value_secret="another of this test's",
            ticket_desk_secret="what the desk of this test signs with",
            payment_processor_secret="what the payment processor signs with",
            outside_billing_secret="what outside billing and we sign with",
            **ports,
            **self.more,
        )

    @property
    def web(self) -> str:
        return f"http://127.0.0.1:{self.settings.web_port}"

    @property
    def gateway(self) -> str:
        return self.settings.gateway_address

    @property
    def standins(self) -> str:
        return self.settings.standins_address

    def start(self, command: str, name: str = "", **settings: object) -> None:
        """Start a process and wait until it answers; several of one kind have a name each."""
        own = self.settings.model_copy(update=settings)
        environment = {f"CALM_{k.upper()}": str(v) for k, v in own.model_dump().items()}
        self.running[name or command] = process = Forked(command, environment)
        health = {
            "web": f"{self.web}/healthz",
            "gateway": f"{own.gateway_address}/readyz",
            "standins": f"{self.standins}/mood",
        }
        if command in health:
            wait_for(lambda: process.poll() is not None or answers(health[command]))
            assert process.poll() is None, f"{name or command} ended with {process.poll()} before it answered"

    def kill(self, command: str) -> None:
        """End a process as a crash would."""
        self.running[command].kill()
        self.running.pop(command).wait()

    def stop(self) -> None:
        """End everything; each process told to stop has to, however long a busy machine takes over it."""
        for process in self.running.values():
            process.terminate()
        for process in self.running.values():
            try:
                process.wait(PATIENCE)
            except TimeoutError:
                process.send_signal(signal.SIGABRT)  # it says where each of its threads is
                process.wait()
                raise

    def shipped(self) -> bool:  # what is left is named when it takes too long
        """Whether the journal is wholly in the database."""
        left = list(self.settings.journal.glob("*/*.open"))
        return not left and not list(closed_segments(self.settings.journal))


@dataclass
class RedisServer:
    """Debian's Redis on a port of its own; killed, it forgets everything."""

    folder: Path
    port: int = field(default_factory=free_port)
    process: subprocess.Popen[bytes] | None = None

    @property
    def url(self) -> str:
        return f"redis://127.0.0.1:{self.port}/0"

    def start(self) -> None:
        self.folder.mkdir(parents=True, exist_ok=True)
        command = ["redis-server", "--port", str(self.port), "--bind", "127.0.0.1", "--save", "", "--appendonly", "no"]
        with (self.folder / "log").open("ab") as log:
            self.process = subprocess.Popen(
                command, cwd=self.folder, stdout=log, stderr=log, preexec_fn=die_with_parent(signal.SIGKILL)
            )
        wait_for(self.answers)

    def answers(self) -> bool:
        assert self.process and self.process.poll() is None, f"Redis ended: {(self.folder / 'log').read_text()}"
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", self.port), 1) as connection:
            connection.sendall(b"PING\r\n")
            return connection.recv(5) == b"+PONG"
        return False

    def kill(self) -> None:
        assert self.process
        self.process.kill()
        self.process.wait()
