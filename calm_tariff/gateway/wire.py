"""The HTTP/1.1 connection: uvicorn's, with bounds on the head of a request and a way to break an answer off."""

from __future__ import annotations

import asyncio
from typing import Any

from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

from calm_tariff.formats import replies

HEAD_BYTES = 32_768
HEAD_FIELDS = 100
HEAD_SECONDS = 10.0


class Wire(HttpToolsProtocol):
    """Refuses heads that are too long (431) or come too slowly (408), and what is no HTTP (400).

    `scope["abort"]` breaks the connection off: a caller must not take half an answer for a whole one.
    """

    _head = 0
    _in_head = True
    _timer: asyncio.TimerHandle | None = None
    _refusal: tuple[int, str, str] | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Begin a connection. What is written counts as sent only once the system has taken it."""
        super().connection_made(transport)
        transport.set_write_buffer_limits(high=0)
        self._wait_for_head()

    def connection_lost(self, exc: Exception | None) -> None:
        """End a connection."""
        self._stop_waiting()
        super().connection_lost(exc)

    def data_received(self, data: bytes) -> None:
        """Take what has come, and refuse a head that grows too long."""
        if self._in_head:
            self._head += len(data)
            if self._timer is None:
                self._wait_for_head()
        super().data_received(data)
        if self._in_head and self._head > HEAD_BYTES and not self.transport.is_closing():
            self._refusal = _TOO_LONG
            self.send_400_response("")

    def on_message_begin(self) -> None:
        """A request begins."""
        super().on_message_begin()
        self.scope["abort"] = self.transport.abort  # type: ignore[typeddict-unknown-key]
        self._in_head = True

    def on_headers_complete(self) -> None:
        """A request's head is whole."""
        size = len(self.url) + sum(len(name) + len(value) for name, value in self.headers)
        if size > HEAD_BYTES or len(self.headers) > HEAD_FIELDS:
            self._refusal = _TOO_LONG
            raise ValueError("the head is too long")
        if sum(name == b"host" for name, _ in self.headers) > 1:
            raise ValueError("two Host fields")
        self._in_head, self._head = False, 0
        self._stop_waiting()
        super().on_headers_complete()

    def on_message_complete(self) -> None:
        """A request has come whole; what comes next is another's head."""
        self._in_head, self._head = True, 0
        super().on_message_complete()

    def send_400_response(self, msg: str) -> None:
        """Refuse what cannot be taken as a request, and end the connection."""
        status, title, detail = self._refusal or _NO_HTTP
        self._stop_waiting()
        code = {400: "not-http", 408: "head-too-slow", 431: "head-too-long"}[status]
        body, headers = replies.problem(status, title, detail, code=code)
        head = [f"HTTP/1.1 {status} {title}".encode(), b"content-length: " + str(len(body)).encode()]
        head += [name + b": " + value for name, value in headers] + [b"connection: close"]
        self.transport.write(b"\r\n".join([*head, b"", body]))
        self.transport.close()

    def _wait_for_head(self) -> None:
        self._timer = self.loop.call_later(HEAD_SECONDS, self._too_slow)

    def _stop_waiting(self) -> None:
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None

    def _too_slow(self) -> None:
        self._timer = None
        if self._in_head and not self.transport.is_closing():
            self._refusal = _TOO_SLOW
            self.send_400_response("")


_NO_HTTP = (400, "Not HTTP", "What was sent is no HTTP/1.1 request.")
_TOO_LONG = (431, "Head too long", f"A request's head may have {HEAD_BYTES:,} bytes and {HEAD_FIELDS} fields.")
_TOO_SLOW = (408, "Head too slow", f"A request's head must be here within {HEAD_SECONDS:.0f} s.")


async def abort(scope: dict[str, Any]) -> None:
    """Break a connection off in the middle of an answer, where the server lets us; otherwise raise."""
    breaking = scope.get("abort")
    if breaking is None:
        raise ConnectionResetError("the answer broke off")
    breaking()
    await asyncio.sleep(0)  # the server learns of it before the call returns
    await asyncio.sleep(0)
