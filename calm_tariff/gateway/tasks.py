"""What a gateway does beside its calls: each task goes on, and is begun again, said and counted should it die."""

from __future__ import annotations

import asyncio
import logging
from collections import Counter
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field

log = logging.getLogger("calm_tariff.gateway")
PAUSE_SECONDS = 1.0


@dataclass(slots=True)
class Tasks:
    """The tasks that run. `died` is how often each was begun again."""

    pause: float = PAUSE_SECONDS
    died: Counter[str] = field(default_factory=Counter)
    _running: list[asyncio.Task[None]] = field(default_factory=list)

    def begin(self, name: str, work: Callable[[], Awaitable[None]]) -> None:
        """Begin a task, whose work goes on until it is cancelled."""
        self._running.append(asyncio.create_task(self._go_on(name, work), name=name))

    async def end(self) -> None:
        """Cancel them all, and wait until they have ended."""
        for task in self._running:
            task.cancel()
        await asyncio.gather(*self._running, return_exceptions=True)
        self._running.clear()

    async def _go_on(self, name: str, work: Callable[[], Awaitable[None]]) -> None:
        while True:
            try:
                await work()
                why = "it ended by itself"
            except Exception as error:  # whatever it is, the others go on and this one is begun again
                why = f"{error.__class__.__name__}: {error}"
                log.exception("%s broke off", name)
            self.died[name] += 1
            log.error("%s is begun again: %s", name, why)
            await asyncio.sleep(self.pause)
