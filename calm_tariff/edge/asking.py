"""Who asks: by session cookie in a browser, by service token in a script."""

# Annotations are evaluated here: whose sessions count depends on the application that asks.

from collections.abc import Callable
from typing import Annotated
from urllib.parse import urlsplit

from fastapi import Depends, Header, Request, Response

from calm_tariff.core.errors import Invalid, NotAllowed
from calm_tariff.services.base.context import Context
from calm_tariff.services.house import service_tokens
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.services.house.signing_in.realms import Realm

SAFE = frozenset({"GET", "HEAD", "OPTIONS"})


def context_of(request: Request) -> Context:
    """The application's context, acting for nobody yet."""
    ctx: Context = request.app.state.ctx
    return ctx


def address_of(request: Request) -> str:
    """Where a request came from: the connection's address, or what a trusted proxy says of it."""
    trusted: frozenset[str] = request.app.state.settings.trusted
    address = request.client.host if request.client else ""
    if address in trusted:
        for each in reversed(request.headers.get("x-forwarded-for", "").split(",")):
            address = each.strip() or address
            if address not in trusted:
                break
    return address[:60]


def asking(cookie: str, realm_of: Callable[..., Realm]) -> Callable[..., Context]:
    """A dependency that finds who asks by the session cookie of that name, which must be of somebody of the realm that
    another dependency finds, or by a service token."""

    def find(request: Request, realm: Annotated[Realm, Depends(realm_of)]) -> Context:
        ctx = context_of(request)
        authorization = request.headers.get("authorization", "")
        if authorization.lower().startswith("bearer "):
            return ctx.acting(service_tokens.who_by(ctx, authorization[7:].strip(), address_of(request)))
        same_origin(request)
        return ctx.acting(sessions.who(ctx, realm, kept_in_browser(request, cookie)))

    return find


def same_origin(request: Request) -> None:
    """A browser's change must come from our own pages."""
    origin = request.headers.get("origin")
    if request.method not in SAFE and origin and urlsplit(origin).netloc != request.headers.get("host"):
        raise NotAllowed(f"a change cannot come from a page of {origin}")


def begin_session(request: Request, response: Response, cookie: str, token: str) -> None:
    """Hand the session token to the browser."""
    sessions.began_from(context_of(request), token, address_of(request), request.headers.get("user-agent", ""))
    keep_in_browser(request, response, cookie, token, 12 * 3600)


def end_session(request: Request, response: Response, cookie: str) -> None:
    """Take the session token from the browser."""
    name, https = _cookie(request, cookie)
    response.delete_cookie(name, path="/", secure=https, httponly=True, samesite="strict")


def kept_in_browser(request: Request, cookie: str) -> str:
    """What the browser keeps for us under a name, a session's token for one; empty where there is nothing."""
    return request.cookies.get(_cookie(request, cookie)[0], "")


def keep_in_browser(request: Request, response: Response, cookie: str, value: str, seconds: int) -> None:
    """Have the browser keep a value for a while that only we read; over https bound to this host (`__Host-`)."""
    name, https = _cookie(request, cookie)
    response.set_cookie(name, value, httponly=True, samesite="strict", path="/", max_age=seconds, secure=https)


def _cookie(request: Request, cookie: str) -> tuple[str, bool]:
    https = request.app.state.settings.address.startswith("https://")
    return (f"__Host-{cookie}" if https else cookie), https


def edition(if_match: Annotated[str | None, Header()] = None) -> int:
    """The edition a change starts from, from If-Match. Raises `Invalid` where it is missing."""
    text = (if_match or "").strip().strip('"')
    if not (text.isascii() and text.isdigit() and len(text) < 10):
        raise Invalid('say which edition you change, as in If-Match: "3"', "If-Match")
    return int(text)


def edition_if_said(if_match: Annotated[str | None, Header()] = None) -> int | None:
    """The edition a change starts from, where If-Match says one. Raises `Invalid` for one that is none."""
    return None if if_match is None else edition(if_match)


Edition = Annotated[int, Depends(edition)]
EditionIfSaid = Annotated[int | None, Depends(edition_if_said)]
IdempotencyKey = Annotated[str | None, Header(max_length=100)]
