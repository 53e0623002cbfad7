"""Passing a call on to its back end and the answer back, streaming, without the credential."""

from __future__ import annotations

from collections.abc import AsyncIterator, Awaitable, Callable
from dataclasses import dataclass
from typing import Any

from aiohttp import ClientError, ClientResponse, ClientSession, ClientTimeout, DummyCookieJar, TCPConnector
from yarl import URL

Receive = Callable[[], Awaitable[dict[str, Any]]]
Headers = list[tuple[bytes, bytes]]

# Fields that belong to one connection (RFC 9110, 7.6.1), and those we set ourselves or must not pass on.
HOP_BY_HOP = frozenset(
    b"connection keep-alive proxy-authenticate proxy-authorization proxy-connection te trailer "
    b"transfer-encoding upgrade".split()
)
NOT_TO_BACK_END = HOP_BY_HOP | {b"host", b"content-length", b"x-api-key", b"authorization"}
NOT_TO_CALLER = HOP_BY_HOP | {b"content-length", b"ratelimit", b"ratelimit-policy", b"date", b"server"}
SMALL_BODY = 65_536


class BackEndDown(Exception):
    """The back end could not be reached, or broke off before it answered. `timed_out` tells which."""

    def __init__(self, timed_out: bool) -> None:
        super().__init__("the back end did not answer")
        self.timed_out = timed_out


@dataclass(slots=True)
class Upload:
    """The caller's body on its way to the back end; `size` counts the bytes passed on."""

    receive: Receive
    size: int = 0

    async def chunks(self) -> AsyncIterator[bytes]:
        """The body as it arrives."""
        while True:
            message = await self.receive()
            if message["type"] != "http.request":
                raise ConnectionResetError("the caller hung up")
            body = message.get("body", b"")
            if body:
                self.size += len(body)
                yield body
            if not message.get("more_body", False):
                return


def client() -> ClientSession:
    """The HTTP client of a gateway: pooled connections, no cookies, no redirects followed."""
    return ClientSession(
        connector=TCPConnector(limit=0, limit_per_host=0, keepalive_timeout=30),
        cookie_jar=DummyCookieJar(),
        auto_decompress=False,
        timeout=ClientTimeout(total=None, sock_connect=3, sock_read=30),
        skip_auto_headers=("User-Agent", "Accept", "Accept-Encoding", "Content-Type"),
    )


async def ask(session: ClientSession, method: str, url: str, headers: Headers, upload: Upload | None) -> ClientResponse:
    """Send a call to its back end and wait for the head of the answer. Raises `BackEndDown`."""
    passed = [(k.decode("latin-1"), v.decode("latin-1")) for k, v in headers if k not in NOT_TO_BACK_END]
    try:
        return await session.request(
            method,
            URL(url, encoded=True),
            headers=passed,
            data=upload.chunks() if upload else None,
            allow_redirects=False,
        )
    except TimeoutError:
        raise BackEndDown(timed_out=True) from None
    except (ClientError, OSError):
        raise BackEndDown(timed_out=False) from None


def returned_headers(answer: ClientResponse) -> Headers:
    """The back end's fields that go on to the caller."""
    return [(k.lower(), v) for k, v in answer.raw_headers if k.lower() not in NOT_TO_CALLER]


def has_body(headers: Headers) -> bool:
    """Whether a call announces a body."""
    return any(k == b"transfer-encoding" or (k == b"content-length" and v != b"0") for k, v in headers)
