"""Who is signed in to the console; Today, the finder, the record."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from pydantic import BaseModel

from calm_tariff.console_api.asking import Asking
from calm_tariff.edge.lists import Asked, all_of, as_csv
from calm_tariff.services import auditing, finder, people
from calm_tariff.services import today as todays
from calm_tariff.services.auditing import Entry
from calm_tariff.services.context import provider_of
from calm_tariff.services.finder import Found
from calm_tariff.services.people import SignIn
from calm_tariff.services.today import Counts, Today
from calm_tariff.store.paging import Page

router = APIRouter(tags=["session"])


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
