"""The routes of passkeys, for people of one kind: making and removing one's own, and signing in by one."""

# Annotations are evaluated here: who asks depends on the cookie, which is known when the router is made.

from collections.abc import Callable
from typing import Annotated, Any
from urllib.parse import urlsplit

from fastapi import APIRouter, Depends, Request, Response
from pydantic import BaseModel, Field

from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import address_of, asking, begin_session, context_of, same_origin
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.signing_in import passkeys
from calm_tariff.services.house.signing_in.passkeys import Host, PasskeyView
from calm_tariff.services.house.signing_in.realms import Realm


class PasskeyWanted(BaseModel):
    """The present password, and a code where one has a second factor."""

    password: str = Field(max_length=1000)
    code: str = Field(default="", max_length=40)


class PasskeyMade(BaseModel):
    """What the browser made, as `PublicKeyCredential.toJSON` writes it (WebAuthn Level 3, 5.1), and what to call it."""

    label: str = Field(max_length=200)
    passkey: dict[str, Any]


class PasskeyRemoved(BaseModel):
    """The present password."""

    password: str = Field(max_length=1000)


class PasskeyShown(BaseModel):
    """What the browser made, as `PublicKeyCredential.toJSON` writes it (WebAuthn Level 3, 5.1)."""

    passkey: dict[str, Any]


def host_of(request: Request) -> Host:
    """The host name that a browser asked, and the origin of the page that did."""
    named = request.headers.get("host", "")
    scheme = urlsplit(request.app.state.settings.address).scheme
    origin = request.headers.get("origin") or f"{scheme}://{named}"
    return Host(urlsplit(f"//{named}").hostname or "", origin)


def router(realm_of: Callable[..., Realm], cookie: str) -> APIRouter:
    """The routes for one kind of people, which a dependency finds, and whose sessions are kept in that cookie."""
    made = APIRouter(tags=["session"], route_class=Again)
    asked = Annotated[Context, Depends(asking(cookie, realm_of))]
    people = Annotated[Realm, Depends(realm_of)]
    here = Annotated[Host, Depends(host_of)]

    @made.get("/passkeys")
    def own(realm: people, ctx: asked) -> list[PasskeyView]:
        """One's own passkeys."""
        return passkeys.own(ctx, realm)

    @made.post("/passkeys/begin", status_code=201)
    def begin(request: Request, realm: people, ctx: asked, host: here, typed: PasskeyWanted) -> dict[str, Any]:
        """What the browser makes a passkey by (`PublicKeyCredentialCreationOptionsJSON`), good for five minutes."""
        return passkeys.begin(ctx, realm, host, typed.password, typed.code, address=address_of(request))

    @made.post("/passkeys", status_code=201)
    def keep(realm: people, ctx: asked, host: here, typed: PasskeyMade) -> PasskeyView:
        """Keep a passkey that the browser made."""
        return passkeys.keep(ctx, realm, host, typed.passkey, typed.label)

    @made.post("/passkeys/{passkey_id}/end", status_code=204)
    def end(request: Request, realm: people, ctx: asked, passkey_id: int, typed: PasskeyRemoved) -> None:
        """Remove a passkey: it opens the account no more."""
        passkeys.end(ctx, realm, passkey_id, typed.password, address_of(request))

    @made.post("/session/passkey/begin", status_code=201, dependencies=[Depends(same_origin)])
    def ask(request: Request, host: here) -> dict[str, Any]:
        """What a passkey is given to sign (`PublicKeyCredentialRequestOptionsJSON`), once, within five minutes."""
        return passkeys.ask(context_of(request), host, address_of(request))

    @made.post("/session/passkey", status_code=204, dependencies=[Depends(same_origin)])
    def sign_in(request: Request, response: Response, realm: people, host: here, typed: PasskeyShown) -> None:
        """Sign in by a passkey, without password and code."""
        token = passkeys.sign_in(context_of(request), realm, host, typed.passkey, address_of(request))
        begin_session(request, response, cookie, token)

    return made
