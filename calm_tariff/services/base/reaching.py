"""Addresses that the product is to ask, checked when they are saved: what they lead to, and what they give away."""

from __future__ import annotations

import socket
from concurrent.futures import ThreadPoolExecutor
from concurrent.futures import TimeoutError as TooSlow
from contextlib import suppress
from dataclasses import dataclass
from urllib.parse import SplitResult, unquote, urlsplit

from calm_tariff.core.errors import Invalid
from calm_tariff.core.reach import Reach
from calm_tariff.services.base.context import Context

PATIENCE_SECONDS = 5.0
PORTS = {"http": 80, "https": 443}
_asking = ThreadPoolExecutor(4, thread_name_prefix="names")


@dataclass(frozen=True, slots=True)
class OutsideAddress:
    """An address without what opens it: `login` is None where it says nothing of it, empty where it says none."""

    url: str
    login: str | None


def parts(ctx: Context, address: str, field: str) -> OutsideAddress:
    """An address to be kept: http or https, without a query, and where it leads it may be asked. A name that nobody
    knows at the moment is taken: it is looked at again whenever it is asked. Raises `Invalid`."""
    url = _split(address, field)
    if url.scheme not in ("http", "https") or not url.hostname or url.query or url.fragment:
        raise Invalid("must be an http or https address without a query", field)
    port = url.port or PORTS[url.scheme]
    for found in _resolved(url.hostname, port):
        refusal = ctx.reach.refusal(found, port)
        if refusal:
            raise Invalid(f"cannot be asked: {refusal}", field)
    bare, login = url.netloc, None
    if "@" in url.netloc:
        given, _, bare = url.netloc.rpartition("@")
        name, _, password = given.partition(":")
        login = f"{unquote(name)}:{unquote(password)}" if given else ""
    return OutsideAddress(url._replace(netloc=bare).geturl(), login)


def for_webhooks(ctx: Context, address: str, field: str = "url") -> str:
    """An address that webhooks are to be sent to. Raises `Invalid` as `parts` does, and for one with a login."""
    found = parts(ctx, address, field)
    if found.login:
        raise Invalid("must hold no name or password; the webhook is signed", field)
    return found.url


def allowed(reach: Reach, host: str, port: int) -> str:
    """The IP address to connect to for a host: one that may be asked. Raises `OSError` where its name is unknown, or
    any of its addresses may not."""
    infos = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    addresses = [str(info[4][0]) for info in infos]
    for address in addresses:
        refusal = reach.refusal(address, port)
        if refusal:
            raise OSError(refusal)
    return addresses[0]


def _split(address: str, field: str) -> SplitResult:
    try:
        url = urlsplit(address)
        _ = url.port
    except ValueError:
        raise Invalid("must be an http or https address without a query", field) from None
    return url


def _resolved(host: str, port: int) -> list[str]:
    with suppress(OSError, TooSlow, UnicodeError):
        infos = _asking.submit(socket.getaddrinfo, host, port, type=socket.SOCK_STREAM).result(PATIENCE_SECONDS)
        return [str(info[4][0]) for info in infos]
    return []
