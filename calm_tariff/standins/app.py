"""The stand-ins' HTTP side: back ends, the ticket desk under /tickets, the token issuer under /issuer, the
mailbox under /mailbox, a bank under /bank, a payment processor under /processor, billing that is done outside under
/billing, a chat under /chat, a listener for webhooks under /listener."""

from __future__ import annotations

import asyncio
import contextlib
import html
from collections.abc import AsyncIterator, Coroutine
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from fastapi import FastAPI, HTTPException, Query, Request, Response
from fastapi.responses import HTMLResponse, JSONResponse
from pydantic import BaseModel, Field

from calm_tariff.standins import harbour, issuer, own_site, rooms, tickets
from calm_tariff.standins.mailbox import Mailbox
from calm_tariff.standins.money import bank, outside_billing, processor
from calm_tariff.standins.money.billing_there import BillingThere
from calm_tariff.standins.money.processing import Processing
from calm_tariff.standins.tickets import Desk
from calm_tariff.standins.tides import STATIONS, extremes, predictions

BACK_ENDS = ("/tides/", "/berths/", "/sea/", "/tiles/")


class Mood(BaseModel):
    """How the back end behaves: added latency, and the share of calls it fails with 500."""

    latency_ms: int = Field(default=4, ge=0, le=30_000)
    failing_percent: int = Field(default=0, ge=0, le=100)


class MailboxMood(BaseModel):
    """Whose letters the mail server refuses, because their box is full."""

    refuses: list[str] = []


@dataclass(slots=True)
class Asked:
    """What the back end has seen, for tests: calls, and the fields of the last one."""

    calls: int = 0
    last_headers: dict[str, str] | None = None


def create_app(
    mailbox: Mailbox,
    desk: Desk,
    processing: Processing,
    billing: BillingThere,
    calling: Coroutine[Any, Any, None] | None = None,
) -> FastAPI:
    """The application, with its own mood and memory; beside it, callers that keep calling."""

    @contextlib.asynccontextmanager
    async def beside(_: FastAPI) -> AsyncIterator[None]:
        telling = (one.keep_telling() for one in (desk, processing, billing))
        tasks = [asyncio.create_task(each) for each in (calling, *telling) if each]
        yield
        for task in tasks:
            task.cancel()

    app = FastAPI(title="Stand-ins", docs_url=None, redoc_url=None, lifespan=beside)
    mood, asked = Mood(), Asked()

    @app.middleware("http")
    async def behave(request: Request, call_next: Any) -> Response:
        if request.url.path.startswith(BACK_ENDS):
            asked.calls += 1
            asked.last_headers = dict(request.headers)
            if mood.latency_ms:
                await asyncio.sleep(mood.latency_ms / 1000)
            if asked.calls * mood.failing_percent % 100 < mood.failing_percent:
                return JSONResponse({"error": "failing as asked"}, 500)
        answer: Response = await call_next(request)
        return answer

    @app.get("/tides/stations")
    async def stations() -> Any:
        return [{"id": s.id, "name": s.name} for s in STATIONS.values()]

    @app.get("/tides/stations/{station}")
    async def station(station: str) -> Any:
        found = STATIONS.get(station)
        if found is None:
            raise HTTPException(404, f"no station {station}")
        return {"id": found.id, "name": found.name, "mean_level_m": found.mean_level}

    @app.get("/tides/stations/{station}/extremes")
    async def turns(station: str, days: int = Query(2, ge=1, le=30)) -> Any:
        found = STATIONS.get(station)
        if found is None:
            raise HTTPException(404, f"no station {station}")
        return {"station": found.id, "unit": "m", "extremes": extremes(found, datetime.now(UTC), days)}

    @app.get("/tides/stations/{station}/heights")
    @app.get("/tides/stations/{station}/tides")
    async def tides(
        station: str,
        start: datetime | None = Query(None, alias="from"),
        hours: int = Query(24, ge=1, le=240),
        step_minutes: int = Query(60, ge=5, le=360),
    ) -> Any:
        found = STATIONS.get(station)
        if found is None:
            raise HTTPException(404, f"no station {station}")
        begin = (start or datetime.now(UTC)).replace(second=0, microsecond=0)
        begin = begin if begin.tzinfo else begin.replace(tzinfo=UTC)
        return {"station": found.id, "unit": "m", "predictions": predictions(found, begin, hours, step_minutes)}

    @app.get("/mood")
    async def read_mood() -> Mood:
        return mood

    @app.put("/mood")
    async def set_mood(wanted: Mood) -> Mood:
        mood.latency_ms, mood.failing_percent = wanted.latency_ms, wanted.failing_percent
        return mood

    @app.get("/asked")
    async def read_asked() -> Any:
        return {"calls": asked.calls, "last_headers": asked.last_headers}

    for made in (
        harbour.berths(),
        harbour.sea(),
        harbour.tiles(),
        tickets.router(desk),
        issuer.router(),
        own_site.router(),
        rooms.router(),
        bank.router(),
        processor.router(processing),
        outside_billing.router(billing),
    ):
        app.include_router(made)

    @app.get("/mailbox.json")
    async def letters(to: str | None = None) -> Any:
        return mailbox.letters(to)

    @app.put("/mailbox-mood")
    async def set_mailbox_mood(wanted: MailboxMood) -> MailboxMood:
        mailbox.refuses = set(wanted.refuses)
        return wanted

    @app.get("/mailbox", response_class=HTMLResponse)
    async def mailbox_page(to: str | None = None) -> str:
        return _page(mailbox.letters(to))

    return app


def _page(letters: list[dict[str, str]]) -> str:
    rows = "".join(
        f"<article><h2>{html.escape(m['subject'])}</h2>"
        f"<p class=to>to {html.escape(m['to'])}, {html.escape(m['at'])}</p>"
        f"<pre>{html.escape(m['body'])}</pre></article>"
        for m in letters
    )
    style = (
        "body{background:#F6F3EC;color:#1E2B2A;font:15px/1.5 system-ui,sans-serif;max-width:720px;margin:40px auto;"
        "padding:0 16px}article{border-top:1px solid #DDD6C8;padding:14px 0}h2{font-size:17px;margin:0}"
        ".to{color:#5C6865;margin:2px 0 8px}pre{white-space:pre-wrap;font:inherit;margin:0}"
    )
    empty = "<p>No letters have arrived yet. They do when a request is decided or an invoice is issued.</p>"
    return (
        f"<!doctype html><html lang=en><meta charset=utf-8><title>Mailbox</title><style>{style}</style>"
        f"<main><h1>Mailbox</h1>{rows or empty}</main></html>"
    )
