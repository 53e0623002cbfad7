"""Threads that go on: one that dies is begun again, said and counted."""

from __future__ import annotations

import logging
from collections.abc import Callable
from threading import Event, Thread

log = logging.getLogger("calm_tariff.worker")
PAUSE_SECONDS = 1.0


class Supervised:
    """A thread that works until `stop` is set. Should the work end before, it is begun again after a pause; `died` is
    how often that was, `last_error` why."""

    def __init__(self, name: str, work: Callable[[Event], None], stop: Event, pause: float = PAUSE_SECONDS) -> None:
        self.name, self.died, self.last_error = name, 0, ""
        self._work, self._stop, self._pause = work, stop, pause
        self._thread = Thread(target=self._go_on, name=name, daemon=True)

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def join(self) -> None:
        """Wait until it has stopped."""
        self._thread.join()

    def _go_on(self) -> None:
        while not self._stop.is_set():
            try:
                self._work(self._stop)
                why = "it ended by itself"
            except Exception as error:  # whatever it is, the others go on and this one is begun again
                why = f"{error.__class__.__name__}: {error}"
                log.exception("%s broke off", self.name)
            if self._stop.is_set():
                return
            self.died += 1
            self.last_error = why
            log.error("%s is begun again: %s", self.name, why)
            self._stop.wait(self._pause)
