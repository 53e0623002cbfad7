"""Signing in and out of the console; Today, the finder, the record."""

from __future__ import annotations

from fastapi import APIRouter, Depends, Request, Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.asking import COOKIE, Asking
from calm_tariff.core.errors import NotAllowed
from calm_tariff.edge.asking import address_of, begin_session, context_of, end_session, same_origin, session_token
from calm_tariff.edge.lists import Asked, all_of, as_csv
from calm_tariff.services import auditing, finder, people
from calm_tariff.services import today as todays
from calm_tariff.services.auditing import Entry
from calm_tariff.services.context import ROLES, provider_of
from calm_tariff.services.finder import Found
from calm_tariff.services.people import SignIn
from calm_tariff.services.today import Counts, Today
from calm_tariff.store.paging import Page

router = APIRouter(tags=["session"])


class Credentials(BaseModel):
    """What somebody types to sign in."""

    email: str = Field(max_length=1000)
    password: str = Field(max_length=1000)


class DemoChoice(BaseModel):
    """Which demo person to be."""

    email: str


class Me(BaseModel):
    """Who is signed in, and what all screens need. `name` is empty where nobody is."""

    name: str
    role: str
    provider: str
    time_zone: str
    currency: str
    demo: list[SignIn]


@router.get("/me")
def me(request: Request, ctx: Asking) -> Me:
    """Who is signed in; in a demo, whom one can be."""
    demo = people.demo_people(ctx) if request.app.state.settings.demo else []
    with ctx.transaction() as session:
        p = provider_of(session)
        name, role = (ctx.actor.name, ctx.actor.role) if ctx.actor.role else ("", "")
        return Me(name=name, role=role, provider=p.name, time_zone=p.time_zone, currency=p.currency, demo=demo)


@router.post("/session", status_code=204, dependencies=[Depends(same_origin)])
def sign_in(request: Request, response: Response, typed: Credentials) -> None:
    """Sign in with address and password."""
    came_from = address_of(request)
    token = people.sign_in_person(context_of(request), typed.email, typed.password, came_from)
    begin_session(request, response, COOKIE, token)


@router.post("/session/demo", status_code=204, dependencies=[Depends(same_origin)])
def sign_in_demo(request: Request, response: Response, choice: DemoChoice) -> None:
    """Sign in as a demo person; only in a demo."""
    if not request.app.state.settings.demo:
        raise NotAllowed("this is no demo")
    ctx = context_of(request)
    if choice.email not in {p.email for p in people.demo_people(ctx)}:
        raise NotAllowed("this person does not belong to the provider")
    begin_session(request, response, COOKIE, people.demo_sign_in(ctx, choice.email))


@router.delete("/session", status_code=204)
def sign_out(request: Request, response: Response, ctx: Asking) -> None:
    """Sign out."""
    people.sign_out(ctx, session_token(request, COOKIE))
    end_session(request, response, COOKIE)


@router.get("/today")
def today(ctx: Asking) -> Today:
    """What needs a person now."""
    return todays.today(ctx)


@router.get("/counts")
def counts(ctx: Asking) -> Counts:
    """Counts beside places and pages."""
    return todays.counts(ctx)


@router.get("/find")
def find(ctx: Asking, words: str) -> list[Found]:
    """The finder."""
    return finder.find(ctx, words)


@router.get("/record")
def record(ctx: Asking, asked: Asked) -> Page[Entry]:
    """Who changed what, newest first, or oldest first if `down`."""
    return auditing.entries(ctx, asked)


@router.get("/record.csv", response_class=Response)
def export_record(ctx: Asking, asked: Asked) -> Response:
    """The same as CSV."""
    return as_csv("record", Entry, all_of(lambda part: auditing.entries(ctx, part), asked))


class NewToken(BaseModel):
    """A service token to make."""

    label: str
    role: str


class MadeToken(BaseModel):
    """A service token, shown this once."""

    token: str


@router.post("/service-tokens", status_code=201)
def make_token(ctx: Asking, wanted: NewToken) -> MadeToken:
    """A token for scripts with one's own role or, for a product manager, any."""
    ctx.actor.must_be(*ROLES)
    if wanted.role != ctx.actor.role and ctx.actor.role != "product manager":
        raise NotAllowed("only a product manager makes tokens of another role")
    return MadeToken(token=people.make_service_token(ctx, wanted.label, wanted.role))
