"""Being told to stop: signals, as an event that whatever runs waits for."""

from __future__ import annotations

import signal
import socket
from threading import Event, Thread


def stop_at(*signals: signal.Signals) -> Event:
    """An event that is set when one of these signals comes. To be asked for in the main thread.

    Python runs a handler in the main thread, when that comes back from what it waits for: it sets nothing here. In the
    midst of waiting for this very event it would wait for itself for good; and where the kernel hands the signal to
    another thread, the main one is not woken and no handler runs. What the interpreter does at once, in whichever
    thread, is to write the signal's number to the wakeup descriptor, which a thread of ours reads.
    """
    stop = Event()
    told, tell = socket.socketpair()
    tell.setblocking(False)
    for number in signals:
        signal.signal(number, lambda *_, kept=tell: None)
    signal.set_wakeup_fd(tell.fileno(), warn_on_full_buffer=False)

    def pass_on() -> None:
        while told.recv(1)[0] not in signals:
            pass  # another signal that somebody handles
        stop.set()

    Thread(target=pass_on, name="stopping", daemon=True).start()
    return stop
