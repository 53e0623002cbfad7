"""Being told to stop: signals, as an event that whatever runs waits for."""

from __future__ import annotations

import signal
from queue import SimpleQueue
from threading import Event, Thread


def stop_at(*signals: signal.Signals) -> Event:
    """An event that is set when one of these signals comes. To be asked for in the main thread.

    A handler runs in the midst of whatever the main thread is at, also in the midst of waiting for this very event,
    where it would wait for itself for good: it sets nothing, but has another thread do so. Putting something into a
    simple queue is what a handler may do.
    """
    stop, told = Event(), SimpleQueue[int]()

    def pass_on() -> None:
        told.get()
        stop.set()

    Thread(target=pass_on, name="stopping", daemon=True).start()
    for number in signals:
        signal.signal(number, lambda came, _: told.put(came))
    return stop
