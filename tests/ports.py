"""Ports for the processes of the tests: of the runs on one machine, and of the workers of a run, each has its own.

Whoever looked for a free port, and took a while to listen there, would find another there otherwise: in a part of its
own nobody else does, and what is stopped and started again finds its port as it left it.
"""

from __future__ import annotations

import contextlib
import fcntl
import itertools
import os
import random
import socket
import tempfile
from collections.abc import Iterator
from pathlib import Path

# Below those that systems give to outgoing connections: such a one would be taken again before it is used.
FIRST_PORT, PORTS = 15_000, 17_000
RUNS = 8  # so many runs beside each other; one more may meet another
_held: list[int] = []


def run_of_its_own(folder: Path = Path(tempfile.gettempdir())) -> int:
    """Which of the runs on this machine this is, counted from 0: until the process ends no other is the same."""
    for run in range(RUNS):
        with contextlib.suppress(OSError):
            held = os.open(folder / f"calm-tests-{run}.lock", os.O_RDWR | os.O_CREAT, 0o666)
            try:
                fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError:
                os.close(held)
                continue
            _held.append(held)
            return run
    return random.randrange(RUNS)


def _in_turn(first: int, many: int) -> Iterator[int]:
    """Over and over, from somewhere on: processes that look at the same time do not find the same."""
    return (first + number % many for number in itertools.count(random.randrange(many)))


_ports = _in_turn(FIRST_PORT, PORTS)


def take_part_of_ports(part: int, parts: int) -> None:
    """Find only ports of one part, counted from 0."""
    global _ports
    _ports = _in_turn(FIRST_PORT + part * (PORTS // parts), PORTS // parts)


def free_port() -> int:
    """A loopback port that nothing listens on now. No process is given one twice, before all have been."""
    while True:
        port = next(_ports)
        with socket.socket() as probe, contextlib.suppress(OSError):
            probe.bind(("127.0.0.1", port))
            return port
