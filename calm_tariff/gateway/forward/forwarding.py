"""Passing a call on to its back end and the answer back, streaming, without the credential."""

from __future__ import annotations

import asyncio
import re
from collections.abc import AsyncIterator, Awaitable, Callable, Collection
from dataclasses import dataclass
from functools import lru_cache
from random import getrandbits
from typing import Any

from aiohttp import (
    ClientConnectorError,
    ClientError,
    ClientResponse,
    ClientSession,
    ClientTimeout,
    DummyCookieJar,
    TCPConnector,
)
from yarl import URL

from calm_tariff.core.reach import Reach
from calm_tariff.edge.reaching import sockets
from calm_tariff.formats.bodies import Beginning
from calm_tariff.formats.replies import Headers
from calm_tariff.services.serve.gateway_feed import Forwarding

Receive = Callable[[], Awaitable[dict[str, Any]]]

# Fields that belong to one connection (RFC 9110, 7.6.1), and those we set ourselves or must not pass on.
HOP_BY_HOP = frozenset(
    b"connection keep-alive proxy-authenticate proxy-authorization proxy-connection te trailer "
    b"transfer-encoding upgrade".split()
)
NOT_TO_BACK_END = HOP_BY_HOP | {
    b"host",
    b"content-length",
    b"authorization",
    b"client-cert",
    b"client-cert-chain",
    b"expect",
    b"forwarded",
    b"x-forwarded-for",
    b"x-forwarded-proto",
    b"x-forwarded-host",
    b"traceparent",
}
NOT_TO_CALLER = HOP_BY_HOP | {
    b"content-length",
    b"ratelimit",
    b"ratelimit-policy",
    b"x-ratelimit-limit",
    b"x-ratelimit-remaining",
    b"x-ratelimit-reset",
    b"date",
    b"server",
}
# What tells a back end who calls; a caller cannot send these itself.
OURS = b"calm-"
SESSIONS = frozenset(prefix + name for prefix in (b"", b"__Host-") for name in (b"calm_console", b"calm_portal"))
SMALL_BODY = 65_536
_TRACE = re.compile(rb"00-([0-9a-f]{32})-([0-9a-f]{16})-([0-9a-f]{2})")


class BackEndDown(Exception):
    """The back end gave no answer. `status`: 502 it answered nonsense or broke off, 503 it cannot be reached,
    504 it took too long."""

    def __init__(self, status: int) -> None:
        super().__init__(f"the back end did not answer ({status})")
        self.status = status


class BodyTooLarge(Exception):
    """The caller's body is longer than the version takes."""


class CallerGone(Exception):
    """The caller hung up, or stopped sending, in the middle of the body."""


@dataclass(slots=True)
class Upload:
    """The caller's body on its way to the back end; `size` counts the bytes passed on. At `most` so many bytes may
    come, and so many `seconds` may lie between two parts. Of what passes on, `kept` takes the beginning, if given."""

    receive: Receive
    most: int
    seconds: float
    size: int = 0
    fault: Exception | None = None
    kept: Beginning | None = None

    async def chunks(self) -> AsyncIterator[bytes]:
        """The body as it arrives. What breaks it off is kept in `fault`, too, because the client hides it."""
        while True:
            try:
                async with asyncio.timeout(self.seconds):
                    message = await self.receive()
            except TimeoutError:
                message = {"type": "http.disconnect"}
            if message["type"] != "http.request":
                self.fault = CallerGone()
                raise self.fault
            body = message.get("body", b"")
            if body:
                self.size += len(body)
                if self.size > self.most:
                    self.fault = BodyTooLarge()
                    raise self.fault
                if self.kept is not None:
                    self.kept.take(body)
                yield body
            if not message.get("more_body", False):
                return


def client(reach: Reach) -> ClientSession:
    """The HTTP client of a gateway: pooled connections, no cookies, no redirects followed, and only where it may."""
    return ClientSession(
        connector=TCPConnector(limit=0, limit_per_host=0, keepalive_timeout=30, socket_factory=sockets(reach)),
        cookie_jar=DummyCookieJar(),
        auto_decompress=False,
        skip_auto_headers=("User-Agent", "Accept", "Accept-Encoding", "Content-Type"),
    )


@lru_cache(maxsize=1000)
def patience(forwarding: Forwarding) -> ClientTimeout:
    """How long a back end is waited for: to connect, and between two parts of its answer."""
    return ClientTimeout(total=None, sock_connect=forwarding.connect_ms / 1000, sock_read=forwarding.answer_ms / 1000)


async def ask(
    session: ClientSession, method: str, url: str, headers: Headers, upload: Upload | None, timeout: ClientTimeout
) -> ClientResponse:
    """Send a call to its back end and wait for the head of the answer.

    Raises `BackEndDown`, `BodyTooLarge` or `CallerGone`.
    """
    passed = [(k.decode("latin-1"), v.decode("latin-1")) for k, v in headers]
    try:
        return await session.request(
            method,
            URL(url, encoded=True),
            headers=passed,
            data=upload.chunks() if upload else None,
            allow_redirects=False,
            timeout=timeout,
        )
    except (BodyTooLarge, CallerGone):
        raise
    except TimeoutError:
        raise BackEndDown(504) from None
    except ClientConnectorError:
        raise BackEndDown(503) from None
    except (ClientError, OSError):
        if upload and upload.fault:
            raise upload.fault from None
        raise BackEndDown(502) from None


def passed_headers(
    headers: Headers, credentials: Collection[bytes], address: str, peer: str, by_proxy: bool
) -> Headers:
    """The caller's fields as a back end sees them, with where the call came from (RFC 7239) and the trace it belongs
    to (W3C Trace Context).

    None of the connection, nothing that any product takes as a credential (`credentials`), no session of ours, and
    none that says what we say ourselves, in whatever spelling a back end may read it. What is said of its way before
    `peer` is kept only where that is a trusted proxy.
    """
    passed: Headers = []
    way, trace, host, listed = b"", b"", b"", b""
    for field in headers:
        name, value = field
        if name in NOT_TO_BACK_END:
            if name == b"host":
                host = value
            elif name == b"connection":
                listed = value
            elif name == b"traceparent":
                trace = value
            elif name == b"x-forwarded-for" and by_proxy:
                way = value
        elif name == b"cookie":
            kept = without_sessions(value)
            if kept:
                passed.append((name, kept))
        elif name not in credentials and name[:5] != OURS and not (b"_" in name and _reads_as(name, credentials)):
            passed.append(field)
    if listed and listed.lower() not in (b"keep-alive", b"close"):
        dropped = {each.strip().lower() for each in listed.split(b",")}
        passed = [field for field in passed if field[0] not in dropped]
    here = address.encode()
    quoted = b'"[' + here + b']"' if b":" in here else here
    passed += [
        (b"x-forwarded-for", way + b", " + peer.encode() if way else peer.encode()),
        (b"forwarded", b"for=" + quoted + b";proto=http" + (b';host="' + host + b'"' if _plain(host) else b"")),
        (b"traceparent", _traced(trace)),
    ]
    return passed


def _reads_as(name: bytes, credentials: Collection[bytes]) -> bool:
    """Whether a back end that takes `_` for `-` would read a field as one that is not passed on."""
    read = name.replace(b"_", b"-")
    return read in NOT_TO_BACK_END or read in credentials or read[:5] == OURS


def without_sessions(cookies: bytes) -> bytes:
    """A Cookie field without the sessions of our console and portal."""
    pairs = (pair.strip() for pair in cookies.split(b";"))
    return b"; ".join(pair for pair in pairs if pair and pair.partition(b"=")[0].strip() not in SESSIONS)


def returned_headers(answer: ClientResponse, own_cors: bool) -> Headers:
    """The back end's fields that go on to the caller; `own_cors` where we answer for cross-origin calls."""
    passed = [(name, v) for k, v in answer.raw_headers if (name := k.lower()) not in NOT_TO_CALLER]
    named = answer.headers.get("Connection")
    if named:
        dropped = {each.strip().lower() for each in named.encode().split(b",")}
        passed = [field for field in passed if field[0] not in dropped]
    if own_cors:
        passed = [field for field in passed if not field[0].startswith(b"access-control-")]
    return passed


def has_body(headers: Headers) -> bool:
    """Whether a call announces a body."""
    return any(k == b"transfer-encoding" or (k == b"content-length" and v != b"0") for k, v in headers)


def _plain(host: bytes) -> bool:
    return bool(host) and b'"' not in host and b"\\" not in host


def _traced(given: bytes) -> bytes:
    if given:
        known = _TRACE.fullmatch(given)
        if known and known[1] != b"0" * 32:
            return b"00-%b-%016x-%b" % (known[1], getrandbits(64) or 1, known[3])
    return b"00-%032x-%016x-00" % (getrandbits(128) or 1, getrandbits(64) or 1)
