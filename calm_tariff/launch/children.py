"""What every child process needs: a free port, and an end when its parent ends."""

from __future__ import annotations

import contextlib
import ctypes
import itertools
import os
import random
import signal
import socket
from collections.abc import Callable, Iterator

_PR_SET_PDEATHSIG = 1
FIRST_PORT, PORTS = 15_000, 17_000


def _in_turn(first: int, many: int) -> Iterator[int]:
    """Over and over, from somewhere on: processes that look at the same time do not find the same."""
    return (first + number % many for number in itertools.count(random.randrange(many)))


_ports = _in_turn(FIRST_PORT, PORTS)


def take_part_of_ports(part: int, parts: int) -> None:
    """Of several processes that look for ports at once, let this one find only those of its part, counted from 0:
    what it stops and starts again then finds its port as it left it."""
    global _ports
    _ports = _in_turn(FIRST_PORT + part * (PORTS // parts), PORTS // parts)


def die_with_parent(with_signal: signal.Signals) -> Callable[[], None]:
    """A function for the child that has the kernel end it when its parent dies, however it dies.

    The parent is the thread that starts the child: start children from a thread that stays. The
    child also leaves the terminal's group, so that Ctrl-C reaches the parent alone.
    """
    libc = ctypes.CDLL(None, use_errno=True)

    def prepare() -> None:
        os.setsid()
        libc.prctl(_PR_SET_PDEATHSIG, int(with_signal))

    return prepare


def port_taken(port: int) -> bool:
    """Whether something listens on a loopback port."""
    with socket.socket() as probe:
        probe.settimeout(0.5)
        return probe.connect_ex(("127.0.0.1", port)) == 0


def free_port() -> int:
    """A loopback port that nothing listens on now, below those that systems give to outgoing connections: such a
    one would be taken again before it is used. No process is given one twice, before all have been."""
    while True:
        port = next(_ports)
        with socket.socket() as probe, contextlib.suppress(OSError):
            probe.bind(("127.0.0.1", port))
            return port
