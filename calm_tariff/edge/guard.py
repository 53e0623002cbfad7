"""What stands before everything the web process answers: whose host it is, how much may be sent, what every answer
says to browsers."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Awaitable, Callable
from contextlib import suppress

import orjson
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from calm_tariff.edge.wire import abort

MOST = 1_000_000
# How long the next part of a body is waited for, and how long a caller may take over the next part of an answer.
SENDER_SECONDS = 30.0
READER_SECONDS = 60.0
_API = re.compile(r"/(?:api|portal/api|portals/[^/]*/api|oauth2)/")


class TooLarge(Exception):
    """More was sent than may be."""


class TooSlow(Exception):
    """A body stopped coming."""


class Guard:
    """An application behind the guard.

    `hosts` are the names and ports it is reached by, and those that `more_hosts` knows; any other is refused, so that
    no name that somebody else points here can make a browser speak to it. `larger` are paths' beginnings with the bytes
    that may be sent there.
    """

    def __init__(
        self,
        app: ASGIApp,
        hosts: frozenset[str],
        larger: dict[str, int],
        https: bool,
        more_hosts: Callable[[str], Awaitable[bool]],
    ) -> None:
        self.app, self.hosts, self.larger, self.more_hosts = app, hosts, larger, more_hosts
        self.always = [(b"x-content-type-options", b"nosniff")]
        if https:
            self.always.append((b"strict-transport-security", b"max-age=31536000"))

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer, or refuse before anything is read."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = dict(scope["headers"])
        host = headers.get(b"host", b"").decode("latin-1").lower()
        if host not in self.hosts and not await self.more_hosts(host):
            await self._refuse(send, 421, "Not here", "This address is not one of this installation's.")
            return
        path: str = scope["path"]
        most = max((size for start, size in self.larger.items() if path.startswith(start)), default=MOST)
        announced = headers.get(b"content-length", b"0")
        if announced.isdigit() and int(announced[:20]) > most:
            await self._too_large(send, most)
            return
        begun = over = slow = whole = False
        received = 0

        async def counted() -> Message:
            nonlocal received, over, slow, whole
            if whole:  # nothing more comes but the end of the connection, which may take as long as the answer
                return await receive()
            try:
                async with asyncio.timeout(SENDER_SECONDS):
                    message = await receive()
            except TimeoutError:
                slow = True
                raise TooSlow from None
            whole = not message.get("more_body", False)
            received += len(message.get("body", b""))
            if received > most:
                over = True
                raise TooLarge
            return message

        async def told(message: Message) -> None:
            nonlocal begun
            if (over or slow) and not begun:
                return  # whatever is made of a body that broke off: it was too large, or stopped coming
            if message["type"] == "http.response.start":
                begun = True
                message = {**message, "headers": self._fields(path, list(message["headers"]))}
            try:
                async with asyncio.timeout(READER_SECONDS):
                    await send(message)
            except TimeoutError:
                await abort(scope)
                raise ConnectionResetError("the caller took no more of the answer") from None

        with suppress(TooLarge, TooSlow, ConnectionResetError):
            await self.app(scope, counted, told)
        if over and not begun:
            await self._too_large(send, most)
        elif slow and not begun:
            await self._refuse(send, 408, "Body not received", "The body stopped coming.")

    def _fields(self, path: str, headers: list[tuple[bytes, bytes]]) -> list[tuple[bytes, bytes]]:
        """An answer's fields with those that every answer has; what an API says is kept nowhere."""
        there = {name.lower() for name, _ in headers}
        more = [field for field in self.always if field[0] not in there]
        if _API.match(path) and b"cache-control" not in there:
            more.append((b"cache-control", b"no-store"))
        return headers + more

    async def _too_large(self, send: Send, most: int) -> None:
        await self._refuse(send, 413, "Too large", f"At most {most:,} bytes may be sent here.")

    async def _refuse(self, send: Send, status: int, title: str, detail: str) -> None:
        body = orjson.dumps({"type": "about:blank", "title": title, "status": status, "detail": detail, "where": ""})
        fields = [
            (b"content-type", b"application/problem+json"),
            (b"content-length", str(len(body)).encode()),
            (b"connection", b"close"),
            *self.always,
        ]
        await send({"type": "http.response.start", "status": status, "headers": fields})
        await send({"type": "http.response.body", "body": body})
