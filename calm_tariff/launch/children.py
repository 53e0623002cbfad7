"""What every child process needs: an end when its parent ends, and a port that nothing has taken."""

from __future__ import annotations

import ctypes
import os
import signal
import socket
from collections.abc import Callable

_PR_SET_PDEATHSIG = 1


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
