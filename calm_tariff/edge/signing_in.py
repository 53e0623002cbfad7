"""The routes by which people of one kind sign in and out and keep their password: the console has them for the
provider's people, the portal for consumers' members."""

# Annotations are evaluated here: who asks depends on the cookie, which is known when the router is made.

from collections.abc import Callable
from typing import Annotated

from fastapi import APIRouter, Depends, Request, Response
from pydantic import BaseModel, Field

from calm_tariff.core.errors import NotAllowed
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import (
    address_of,
    asking,
    begin_session,
    context_of,
    end_session,
    kept_in_browser,
    same_origin,
)
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.signing_in import passwords, sessions
from calm_tariff.services.house.signing_in.realms import Realm
from calm_tariff.services.house.signing_in.sessions import SessionView

_FROM_HERE = [Depends(same_origin)]


class Credentials(BaseModel):
    """What somebody types to sign in; the code where they have a second factor."""

    email: str = Field(max_length=1000)
    password: str = Field(max_length=1000)
    code: str = Field(default="", max_length=40)


class DemoChoice(BaseModel):
    """Which person of the demo to be."""

    email: str


class Forgotten(BaseModel):
    """Whose password was forgotten."""

    email: str = Field(max_length=1000)


class AnotherPassword(BaseModel):
    """Another password, with the token of the letter that allows it; and the code where they have a second factor."""

    token: str = Field(max_length=200)
    password: str = Field(max_length=1000)
    code: str = Field(default="", max_length=40)


class PasswordChange(BaseModel):
    """The present password and the one it becomes."""

    current: str = Field(max_length=1000)
    new: str = Field(max_length=1000)


def router(realm_of: Callable[..., Realm], cookie: str) -> APIRouter:
    """The routes for one kind of people, which a dependency finds, and whose sessions are kept in that cookie."""
    made = APIRouter(tags=["session"], route_class=Again)
    asked = Annotated[Context, Depends(asking(cookie, realm_of))]
    people = Annotated[Realm, Depends(realm_of)]

    @made.post("/session", status_code=204, dependencies=_FROM_HERE)
    def sign_in(request: Request, response: Response, realm: people, typed: Credentials) -> None:
        """Sign in with address and password, and a code where one has a second factor: then an answer without it is
        401 with `code` as its place."""
        ctx, address = context_of(request), address_of(request)
        token = sessions.sign_in(ctx, realm, typed.email, typed.password, address, code=typed.code)
        begin_session(request, response, cookie, token)

    @made.post("/session/demo", status_code=204, dependencies=_FROM_HERE)
    def sign_in_demo(request: Request, response: Response, realm: people, choice: DemoChoice) -> None:
        """Sign in as one of a demo's people; only in a demo."""
        if not request.app.state.settings.demo:
            raise NotAllowed("this is no demo")
        ctx = context_of(request)
        if choice.email not in {one.email for one in sessions.offered(ctx, realm)}:
            raise NotAllowed("nobody of the demo has this address here")
        begin_session(request, response, cookie, sessions.demo_sign_in(ctx, realm, choice.email))

    @made.delete("/session", status_code=204)
    def sign_out(request: Request, response: Response, ctx: asked) -> None:
        """Sign out."""
        sessions.sign_out(ctx, kept_in_browser(request, cookie))
        end_session(request, response, cookie)

    @made.get("/sessions")
    def own_sessions(request: Request, realm: people, ctx: asked) -> list[SessionView]:
        """Where one is signed in."""
        return sessions.own(ctx, realm, kept_in_browser(request, cookie))

    @made.delete("/sessions/{session_id}", status_code=204)
    def end_one(realm: people, ctx: asked, session_id: str) -> None:
        """End one of one's sessions."""
        sessions.end_one(ctx, realm, session_id)

    @made.delete("/sessions", status_code=204)
    def end_others(request: Request, realm: people, ctx: asked) -> None:
        """End all of one's sessions but this."""
        sessions.end_others(ctx, realm, kept_in_browser(request, cookie))

    @made.post("/session/forgotten", status_code=204, dependencies=_FROM_HERE)
    def forgotten(request: Request, realm: people, typed: Forgotten) -> None:
        """Have a letter sent with which another password can be set. The answer is the same for every address."""
        passwords.forgotten(context_of(request), realm, typed.email, address_of(request))

    @made.post("/session/reset", status_code=204, dependencies=_FROM_HERE)
    def reset(request: Request, response: Response, realm: people, typed: AnotherPassword) -> None:
        """Set another password by the token of a letter, and sign in; every other session ends."""
        ctx, address = context_of(request), address_of(request)
        token = passwords.reset(ctx, realm, typed.token, typed.password, address, code=typed.code)
        begin_session(request, response, cookie, token)

    @made.put("/password", status_code=204)
    def change(request: Request, response: Response, realm: people, ctx: asked, typed: PasswordChange) -> None:
        """Change one's password; every other session ends."""
        token = passwords.change(ctx, realm, typed.current, typed.new, address_of(request))
        begin_session(request, response, cookie, token)

    return made
