"""Who is signed in to the console, and the record."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from pydantic import BaseModel

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.base import auditing
from calm_tariff.services.base.auditing import Entry
from calm_tariff.services.base.context import provider_of
from calm_tariff.services.house import sessions
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.realms import SignIn
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["session"], route_class=Again)


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
    demo = sessions.offered(ctx, PEOPLE) if request.app.state.settings.demo else []
    with ctx.transaction() as session:
        p = provider_of(session)
        name, role = (ctx.actor.name, ctx.actor.role) if ctx.actor.role else ("", "")
        return Me(name=name, role=role, provider=p.name, time_zone=p.time_zone, currency=p.currency, demo=demo)


@router.get("/record")
def record(ctx: Asking, asked: Paged) -> Page[Entry]:
    """Who changed what, newest first, or oldest first if `down`."""
    return auditing.entries(ctx, asked)


@router.get("/record.csv", response_class=Response)
def export_record(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    return as_csv("record", Entry, all_of(lambda part: auditing.entries(ctx, part), asked))
