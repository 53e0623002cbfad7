"""The HTTP/1.1 connection: uvicorn's, with bounds on the head of a request and a way to break an answer off."""

from __future__ import annotations

import asyncio
from collections.abc import MutableMapping
from typing import Any

from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

from calm_tariff.formats import replies

HEAD_BYTES = 32_768
HEAD_FIELDS = 100
HEAD_SECONDS = 10.0
# How long a connection that is to end may take to carry off what it was told.
DRAIN_SECONDS = 5.0
CONNECTIONS = 5_000
# How long a connection may lie idle whose last caller was turned away.
IDLE_SECONDS = 5


class Wire(HttpToolsProtocol):
    """Refuses heads that are too long (431) or come too slowly (408), what is no HTTP (400), and connections beyond
    `most_connections` (503). A connection that is to end does so within `drain_seconds`, read or not.

    `scope["transport"]` and `scope["wire"]` are what the functions below work on.
    """

    most_connections = CONNECTIONS
    drain_seconds = DRAIN_SECONDS

    _head = 0
    _in_head = True
    _since: float | None = None
    _timer: asyncio.TimerHandle | None = None
    _drain: asyncio.TimerHandle | None = None
    _patience = 0
    _refusal: tuple[int, str, str] | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Begin a connection."""
        super().connection_made(transport)
        self._patience = self.timeout_keep_alive
        if len(self.connections) > self.most_connections:
            self._refusal = _TOO_MANY
            self.send_400_response("")
            return
        self._since = self.loop.time()
        self._timer = self.loop.call_later(HEAD_SECONDS / 4, self._look)

    def connection_lost(self, exc: Exception | None) -> None:
        """End a connection."""
        for timer in (self._timer, self._drain):
            if timer is not None:
                timer.cancel()
        super().connection_lost(exc)

    def data_received(self, data: bytes) -> None:
        """Take what has come, and refuse a head that grows too long."""
        if self.transport.is_closing():
            return
        if self._in_head:
            self._head += len(data)
            if self._since is None:
                self._since = self.loop.time()
        super().data_received(data)
        if self._in_head and self._head > HEAD_BYTES and not self.transport.is_closing():
            self._refusal = _TOO_LONG
            self.send_400_response("")

    def on_message_begin(self) -> None:
        """A request begins."""
        super().on_message_begin()
        self.scope["transport"] = self.transport  # type: ignore[typeddict-unknown-key]
        self.scope["wire"] = self  # type: ignore[typeddict-unknown-key]
        self._in_head = True

    def on_headers_complete(self) -> None:
        """A request's head is whole."""
        if len(self.headers) > HEAD_FIELDS or (self._head > HEAD_BYTES and self._size() > HEAD_BYTES):
            self._refusal = _TOO_LONG
            raise ValueError("the head is too long")
        hosts = 0
        for name, _ in self.headers:
            if name == b"host":
                hosts += 1
        if hosts > 1:
            raise ValueError("two Host fields")
        self._in_head, self._head, self._since = False, 0, None
        super().on_headers_complete()

    def on_message_complete(self) -> None:
        """A request has come whole; what comes next is another's head."""
        self._in_head, self._head = True, 0
        super().on_message_complete()

    def send_400_response(self, msg: str) -> None:
        """Refuse what cannot be taken as a request, and end the connection."""
        status, title, detail = self._refusal or _NO_HTTP
        code = {400: "not-http", 408: "head-too-slow", 431: "head-too-long", 503: "too-many-connections"}[status]
        body, headers = replies.problem(status, title, detail, code=code)
        head = [f"HTTP/1.1 {status} {title}".encode(), b"content-length: " + str(len(body)).encode()]
        head += [name + b": " + value for name, value in headers] + [b"connection: close"]
        self.transport.write(b"\r\n".join([*head, b"", body]))
        self.transport.close()
        self._drain = self.loop.call_later(self.drain_seconds, self.transport.abort)

    def hurry(self, on: bool) -> None:
        """Let this connection lie idle only shortly, or as long as any."""
        self.timeout_keep_alive = min(IDLE_SECONDS, self._patience) if on else self._patience

    def _size(self) -> int:
        return len(self.url) + sum(len(name) + len(value) for name, value in self.headers)

    def _look(self) -> None:
        """Look now and then, not once for every request, whether a head is overdue."""
        if self.transport.is_closing():
            return
        if self._in_head and self._since is not None and self.loop.time() - self._since > HEAD_SECONDS * 0.95:
            self._refusal = _TOO_SLOW
            self.send_400_response("")
            return
        self._timer = self.loop.call_later(HEAD_SECONDS / 4, self._look)


_NO_HTTP = (400, "Not HTTP", "What was sent is no HTTP/1.1 request.")
_TOO_LONG = (431, "Head too long", f"A request's head may have {HEAD_BYTES:,} bytes and {HEAD_FIELDS} fields.")
_TOO_MANY = (503, "Too many connections", "No more connections are taken at the moment. Try again.")
_TOO_SLOW = (408, "Head too slow", f"A request's head must be here within {HEAD_SECONDS:.0f} s.")


def unbuffered(scope: dict[str, Any], on: bool) -> None:
    """Have what is written to a connection count as sent only once the system has taken it, or no more so."""
    transport = scope.get("transport")
    if transport is not None and not transport.is_closing():
        transport.set_write_buffer_limits(*((0, 0) if on else ()))


def hurry(scope: dict[str, Any], on: bool) -> None:
    """Let the connection of a caller who was turned away lie idle only shortly; that of a good one as long as any."""
    wire = scope.get("wire")
    if wire is not None:
        wire.hurry(on)


async def abort(scope: MutableMapping[str, Any]) -> None:
    """Break a connection off in the middle of an answer: a caller must not take half of one for a whole."""
    transport = scope.get("transport")
    if transport is None:
        raise ConnectionResetError("the answer broke off")
    transport.abort()
    await asyncio.sleep(0)  # the server learns of it before the call returns
    await asyncio.sleep(0)
