"""Portals by host names of their own: what is asked there is what stands below the portal's path."""

from __future__ import annotations

import asyncio
import time
from contextlib import suppress

from starlette.concurrency import run_in_threadpool
from starlette.types import ASGIApp, Receive, Scope, Send

from calm_tariff.services.admit.portals import serving
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.retrying import PASSING

# How old may be what is known of the names.
FRESH_SECONDS = 1.0
# Set in the scope of what was asked by a portal's own name: where its pages begin there.
BEGINS = "calm_tariff.portal_begins"
_EVERYWHERE = ("/assets/", "/oauth2/", "/.well-known/", "/healthz")


class HostNames:
    """The names that portals have, as the database had them a moment ago."""

    def __init__(self, ctx: Context) -> None:
        self._ctx = ctx
        self._paths: dict[str, str] = {}
        self._read_at = float("-inf")
        self._reading = asyncio.Lock()

    async def path_of(self, host: str) -> str | None:
        """The path of the portal that has this name."""
        async with self._reading:
            if time.monotonic() - self._read_at > FRESH_SECONDS:
                with suppress(*PASSING):  # what was known stays until the database answers again
                    self._paths = await run_in_threadpool(serving.paths_by_host, self._ctx)
                self._read_at = time.monotonic()
        return self._paths.get(host)

    async def known(self, host: str) -> bool:
        """Whether a portal has this name."""
        return await self.path_of(host) is not None


class ByHost:
    """An application whose portals are also reached by their own names."""

    def __init__(self, app: ASGIApp, names: HostNames, own: frozenset[str]) -> None:
        self.app, self.names, self.own = app, names, own

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Lead what is asked by a portal's name below its path."""
        if scope["type"] == "http":
            host = dict(scope["headers"]).get(b"host", b"").decode("latin-1").lower()
            path = None if host in self.own else await self.names.path_of(host)
            if path is not None and not scope["path"].startswith(_EVERYWHERE):
                below = path + scope["path"]
                scope = {**scope, "path": below, "raw_path": below.encode(), BEGINS: ""}
        await self.app(scope, receive, send)
