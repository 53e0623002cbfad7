"""Processes of the product that begin at once: each is forked from one that has imported what they need.

That they begin from nothing, too, is tested where they are launched (`tests/launch`).
"""

from __future__ import annotations

import faulthandler
import multiprocessing
import os
import signal
import subprocess
import sys
import threading
from collections.abc import Mapping
from pathlib import Path
from tempfile import TemporaryDirectory

from calm_tariff import cli
from calm_tariff.launch.children import die_with_parent

_SERVER = multiprocessing.get_context("forkserver")
_SERVER.set_forkserver_preload(
    [
        "tests.forked",
        "calm_tariff.launch.start",
        "calm_tariff.web",
        "calm_tariff.gateway.run",
        "calm_tariff.worker.run",
        "calm_tariff.standins.run",
    ]
)


class Forked:
    """A command that runs in a process of its own, with these settings in its environment. What it says goes into
    files of the folder `said`, where one is given."""

    def __init__(self, command: str, environment: Mapping[str, str], *more: str, said: Path | None = None) -> None:
        self._process = _SERVER.Process(target=_run, args=((command, *more), dict(environment), said))
        self._process.start()

    @property
    def pid(self) -> int:
        assert self._process.pid
        return self._process.pid

    def poll(self) -> int | None:
        """Its status, once it has ended."""
        return self._process.exitcode

    def send_signal(self, number: signal.Signals) -> None:
        """Send it a signal, unless it has ended."""
        if self.poll() is None:
            os.kill(self.pid, number)

    def terminate(self) -> None:
        """Tell it to stop."""
        self.send_signal(signal.SIGTERM)

    def kill(self) -> None:
        """End it as a crash would."""
        self.send_signal(signal.SIGKILL)

    def wait(self, seconds: float | None = None) -> int:
        """Wait until it has ended, and return its status. Raises `TimeoutError`."""
        self._process.join(seconds)
        status = self.poll()
        if status is None:
            raise TimeoutError(f"process {self.pid} has not ended within {seconds} s")
        return status


def ran(*command: str, environment: Mapping[str, str], seconds: float = 120) -> subprocess.CompletedProcess[str]:
    """Run a command to its end: its status, and what it said. Raises `TimeoutError`."""
    with TemporaryDirectory() as folder:
        first, *more = command
        process = Forked(first, environment, *more, said=Path(folder))
        try:
            status = process.wait(seconds)
        finally:
            process.kill()
        out, err = ((Path(folder) / name).read_text() for name in ("out", "err"))
    return subprocess.CompletedProcess(command, status, out, err)


def _run(command: tuple[str, ...], environment: dict[str, str], said: Path | None) -> None:
    die_with_parent(signal.SIGKILL)()
    # The server lives as long as what it forked: what dies with it would outlive a run that is killed.
    threading.Thread(target=_end_with_the_run, daemon=True).start()
    if said is not None:
        for stream, name in ((sys.stdout, "out"), (sys.stderr, "err")):
            with (said / name).open("wb") as file:
                os.dup2(file.fileno(), stream.fileno())
    faulthandler.enable()
    os.environ.update(environment)
    sys.exit(cli.main(list(command)))


def _end_with_the_run() -> None:
    run = multiprocessing.parent_process()
    assert run
    run.join()
    os.kill(os.getpid(), signal.SIGKILL)
