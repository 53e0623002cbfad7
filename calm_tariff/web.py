"""The web process: console, portal, their APIs and the built front end."""

from __future__ import annotations

import json
import logging
from contextlib import suppress
from functools import partial
from pathlib import Path
from threading import Event
from typing import Any

import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import FileResponse, JSONResponse, PlainTextResponse, RedirectResponse, Response
from starlette.routing import Mount, Route
from starlette.staticfiles import StaticFiles

from calm_tariff.console_api import app as console
from calm_tariff.edge.guard import Guard
from calm_tariff.edge.pages import SECURITY
from calm_tariff.edge.server import Server
from calm_tariff.edge.wire import Wire
from calm_tariff.formats.documents import MOST_BYTES
from calm_tariff.portal_api import app as portal
from calm_tariff.portal_api.admit import oauth
from calm_tariff.services.base.context import Context, context_for
from calm_tariff.services.base.retrying import PASSING
from calm_tariff.services.base.supervision import Supervised
from calm_tariff.services.serve import instances
from calm_tariff.settings import Settings, settings_now
from calm_tariff.store.base.connecting import engine

log = logging.getLogger("calm_tariff.web")
BUILT = Path(__file__).parent.parent / "web" / "dist"


def create_app(ctx: Context, settings: Settings) -> Guard:
    """Everything the web process answers, behind its guard."""

    async def console_page(request: Request) -> Response:
        return _page("index.html")

    async def portal_page(request: Request) -> Response:
        return _page("portal.html")

    async def portal_root(request: Request) -> Response:
        return RedirectResponse("/portal/")

    async def health(request: Request) -> Response:
        return PlainTextResponse("well")

    async def about_tokens(request: Request) -> Response:
        return JSONResponse(oauth.metadata(ctx.web_address))

    app = Starlette(
        routes=[
            Route("/healthz", health),
            Mount("/api/v1", console.create_app(ctx, settings)),
            Mount("/portal/api/v1", portal.create_app(ctx, settings)),
            Mount("/oauth2", oauth.create_app(ctx, settings)),
            Route("/.well-known/oauth-authorization-server", about_tokens),
            Mount("/assets", StaticFiles(directory=BUILT / "assets", check_dir=False)),
            Route("/portal", portal_root),
            Route("/portal/{rest:path}", portal_page),
            Route("/{rest:path}", console_page),
        ]
    )
    # A document may be 20 MB, and takes more room as JSON.
    larger = dict.fromkeys(("/api/v1/documents", "/api/v1/apis", "/api/v1/tariff"), 3 * MOST_BYTES)
    return Guard(app, settings.hosts, larger, settings.address.startswith("https://"))


def _page(name: str) -> Response:
    path = BUILT / name
    if not path.exists():
        return PlainTextResponse("The front end is not built; ./calm builds it.", 503)
    return FileResponse(path, headers={**SECURITY, "cache-control": "no-cache"})


# `proxy_headers`: left on, whoever connects from this machine could say that it is somebody else; whose word is taken
# the settings say (`trusted`).
SERVED: dict[str, Any] = {
    "host": "127.0.0.1",
    "log_config": None,
    "access_log": False,
    "timeout_graceful_shutdown": 2,
    "timeout_keep_alive": 60,
    "http": Wire,
    "server_header": False,
    "lifespan": "off",
    "proxy_headers": False,
}


def serve(settings: Settings) -> None:
    """Serve until told to stop."""
    ctx = context_for(
        engine(settings.database_url, pool_size=20, max_overflow=20),
        web_address=settings.address,
        gateway_address=settings.gateway_address,
        signing_secret=settings.signing_secret,
        sealing_secret=settings.value_secret,
        reach=settings.reach,
    )
    stop = Event()
    reporting = Supervised("reporting", partial(_report, ctx, settings), stop)
    reporting.start()
    try:
        with suppress(KeyboardInterrupt):
            Server(uvicorn.Config(create_app(ctx, settings), port=settings.web_port, **SERVED)).run()
    finally:
        stop.set()
        reporting.join()
        with suppress(*PASSING):
            instances.leave(ctx, settings.web_name)


def _report(ctx: Context, settings: Settings, stop: Event) -> None:
    """Say how this process is, again and again."""
    began = ctx.now
    words = {"started_again": settings.started_again, "ended_with": settings.ended_with}
    while not stop.is_set():
        try:
            instances.report(ctx, settings.web_name, "web", began, words)
        except PASSING as error:
            log.warning("nothing is reported: %s", error.__class__.__name__)
        stop.wait(instances.REPORT_SECONDS)


def write_openapi(folder: Path) -> None:
    """Write the OpenAPI documents of both APIs, from which the front end's types are made."""
    ctx: Any = None
    folder.mkdir(parents=True, exist_ok=True)
    for name, made in (("console", console.create_app), ("portal", portal.create_app)):
        document = made(ctx, settings_now()).openapi()
        (folder / f"{name}.json").write_text(json.dumps(document, indent=1, sort_keys=True))
