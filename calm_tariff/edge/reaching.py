"""Clients that connect only where the product may: looked at when they connect, because a name can lead somewhere
else by then."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager
from dataclasses import dataclass
from typing import Any

import httpx
import orjson
from aiohttp.connector import AddrInfoType, SocketFactoryType

from calm_tariff.core.errors import Away
from calm_tariff.core.reach import Reach
from calm_tariff.services.base.reaching import PORTS, allowed


def sockets(reach: Reach) -> SocketFactoryType:
    """Makes sockets for aiohttp: none for an address that may not be asked (`OSError`)."""

    def make(info: AddrInfoType) -> socket.socket:
        family, kind, proto, _, address = info
        refusal = reach.refusal(str(address[0]), int(address[1]))
        if refusal:
            raise OSError(refusal)
        return socket.socket(family=family, type=kind, proto=proto)

    return make


def client(reach: Reach, **options: Any) -> httpx.Client:
    """A client that follows no redirects and connects to the addresses it has looked at."""
    return httpx.Client(transport=_Reaching(reach), follow_redirects=False, trust_env=False, **options)


def async_client(reach: Reach, **options: Any) -> httpx.AsyncClient:
    """The same, for code that awaits."""
    return httpx.AsyncClient(transport=_AsyncReaching(reach), follow_redirects=False, trust_env=False, **options)


@dataclass(frozen=True, slots=True, kw_only=True)
class Question:
    """What somebody outside is asked: with a body, or JSON, and some header fields."""

    method: str
    path: str
    fields: Mapping[str, str]
    json: Mapping[str, Any] | None = None
    body: bytes | None = None


def answer(clients: Callable[[], AbstractContextManager[httpx.Client]], to: Question, whom: str, longest: int) -> Any:
    """What somebody outside answers, as JSON of so many bytes at most; None for no content. Raises `Away`, naming
    `whom`, where they do not answer so."""
    fields = {"Accept": "application/json", **to.fields}
    try:
        with (
            clients() as asking,
            asking.stream(to.method, to.path, json=to.json, content=to.body, headers=fields) as answered,
        ):
            got = b""
            for part in answered.iter_bytes():
                got += part
                if len(got) > longest:
                    raise Away("answers more than is taken", whom)
    except (httpx.HTTPError, httpx.InvalidURL):
        raise Away("cannot be reached at the moment", whom) from None
    if answered.status_code == 204:
        return None
    if answered.status_code != 200:
        raise Away(f"answered {answered.status_code}", whom)
    try:
        return orjson.loads(got)
    except ValueError:
        raise Away("answered what is no JSON", whom) from None


class _Reaching(httpx.HTTPTransport):
    def __init__(self, reach: Reach) -> None:
        super().__init__()
        self.reach = reach

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        """Ask the address that was looked at."""
        try:
            address = allowed(self.reach, *_place(request))
        except OSError as error:
            raise httpx.ConnectError(str(error), request=request) from error
        return super().handle_request(_pinned(request, address))


class _AsyncReaching(httpx.AsyncHTTPTransport):
    def __init__(self, reach: Reach) -> None:
        super().__init__()
        self.reach = reach

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        """Ask the address that was looked at."""
        try:
            address = await asyncio.to_thread(allowed, self.reach, *_place(request))
        except OSError as error:
            raise httpx.ConnectError(str(error), request=request) from error
        return await super().handle_async_request(_pinned(request, address))


def _place(request: httpx.Request) -> tuple[str, int]:
    return request.url.host, request.url.port or PORTS.get(request.url.scheme, 0)


def _pinned(request: httpx.Request, address: str) -> httpx.Request:
    """The request to the address instead of the name, which stays what is asked for and what a certificate is for."""
    request.extensions = {**request.extensions, "sni_hostname": request.url.host}
    request.url = request.url.copy_with(host=address)
    return request
