"""A server for one application: uvicorn's, which costs next to nothing while nobody asks."""

from __future__ import annotations

import asyncio
from contextlib import suppress
from types import FrameType

import uvicorn

# How often the date that answers tell is written anew.
DATE_SECONDS = 1.0


class Server(uvicorn.Server):
    """It wakes once a second for the date, and when it is told to stop, where uvicorn's looks ten times a second."""

    def __init__(self, config: uvicorn.Config) -> None:
        super().__init__(config)
        self._told = asyncio.Event()
        self._loop: asyncio.AbstractEventLoop | None = None

    async def main_loop(self) -> None:
        """Wait until it is to stop."""
        self._loop = asyncio.get_running_loop()
        while not await self.on_tick(0):  # at 0 it writes the date
            with suppress(TimeoutError):
                async with asyncio.timeout(DATE_SECONDS):
                    await self._told.wait()
        self._loop = None

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        """A signal: stop."""
        super().handle_exit(sig, frame)
        if self._loop:
            self._loop.call_soon_threadsafe(self._told.set)
