"""The web process: console, portal, their APIs and the built front end."""

from __future__ import annotations

import json
import logging
from contextlib import suppress
from functools import partial
from html import escape
from pathlib import Path
from threading import Event
from typing import Any

import uvicorn
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import FileResponse, HTMLResponse, JSONResponse, PlainTextResponse, RedirectResponse, Response
from starlette.routing import Mount, Route
from starlette.staticfiles import StaticFiles

from calm_tariff.console_api import app as console
from calm_tariff.console_api import roles
from calm_tariff.core import portals
from calm_tariff.core.errors import NotFound
from calm_tariff.edge.guard import Guard
from calm_tariff.edge.pages import security
from calm_tariff.edge.server import Server
from calm_tariff.edge.wire import Wire
from calm_tariff.formats.documents import MOST_BYTES
from calm_tariff.formats.pictures import MOST_BYTES as PICTURE_BYTES
from calm_tariff.portal_api import app as portal
from calm_tariff.portal_api import by_host
from calm_tariff.portal_api.admit import oauth
from calm_tariff.services.admit.portals import look as appearance
from calm_tariff.services.admit.portals import serving
from calm_tariff.services.base.context import Context, context_for
from calm_tariff.services.base.retrying import PASSING
from calm_tariff.services.base.supervision import Supervised
from calm_tariff.services.serve import instances
from calm_tariff.services.serve.elsewhere import at_once, files
from calm_tariff.settings import Settings, settings_now
from calm_tariff.store.base.connecting import engine

log = logging.getLogger("calm_tariff.web")
BUILT = Path(__file__).parent.parent / "web" / "dist"


def create_app(ctx: Context, settings: Settings) -> Guard:
    """Everything the web process answers, behind its guard."""

    # A portal is shown beside its page in the console, and calls are tried on it.
    of_portals = security("'self'", settings.gateway_address)

    async def console_page(request: Request) -> Response:
        return _page("index.html", security())

    def portal_page(request: Request) -> Response:
        """A portal's page; what is asked by its own name has no path before it."""
        prefix = request.path_params.get("portal")
        path = f"{portals.OTHERS}{prefix}" if prefix else portals.FIRST
        begins = request.scope.get(by_host.BEGINS, path)
        try:
            look = appearance.look(ctx, serving.asked(ctx, path).id, settings.gateway_address)
        except NotFound as error:
            return PlainTextResponse(f"{error.what.capitalize()}.", 404, headers=security())
        except PASSING:
            return _page("portal.html", of_portals, begins=begins)
        icon = f"{begins}/api/v1/pictures/{look.icon}.png" if look.icon else "data:,"
        return _page("portal.html", of_portals, begins=begins, title=look.name, icon=icon)

    async def portal_root(request: Request) -> Response:
        return RedirectResponse(f"{request.url.path}/")

    async def health(request: Request) -> Response:
        return PlainTextResponse("well")

    async def about_tokens(request: Request) -> Response:
        return JSONResponse(oauth.metadata(ctx.web_address))

    portal_app = portal.create_app(ctx, settings)
    other = f"{portals.OTHERS}{{portal}}"
    app = Starlette(
        routes=[
            Route("/healthz", health),
            Mount("/api/v1", console.create_app(ctx, settings)),
            Mount(f"{portals.FIRST}/api/v1", portal_app),
            Mount(f"{other}/api/v1", portal_app),
            Mount("/oauth2", oauth.create_app(ctx, settings)),
            Route("/.well-known/oauth-authorization-server", about_tokens),
            Mount("/assets", StaticFiles(directory=BUILT / "assets", check_dir=False)),
            Route(portals.FIRST, portal_root),
            Route(other, portal_root),
            Route(f"{portals.FIRST}/{{rest:path}}", portal_page),
            Route(f"{other}/{{rest:path}}", portal_page),
            Route("/{rest:path}", console_page),
        ]
    )
    # A document may be 20 MB, and takes more room as JSON.
    larger = dict.fromkeys(("/api/v1/documents", "/api/v1/apis", "/api/v1/tariff", "/api/v1/imports"), 3 * MOST_BYTES)
    larger["/api/v1/portals/"] = 2 * PICTURE_BYTES
    larger |= {"/api/v1/usage": at_once.MOST_BYTES, "/api/v1/usage/files": files.MOST_BYTES}
    names = by_host.HostNames(ctx)
    led = by_host.ByHost(app, names, settings.hosts)
    return Guard(led, settings.hosts, larger, settings.address.startswith("https://"), names.known)


def _page(name: str, fields: dict[str, str], **said: str) -> Response:
    """A built page. What is said of a portal stands in its head: the browser shows its name and its icon at once, and
    its program knows where it begins."""
    path = BUILT / name
    if not path.exists():
        return PlainTextResponse("The front end is not built; ./calm builds it.", 503)
    headers = {**fields, "cache-control": "no-cache"}
    if not said:
        return FileResponse(path, headers=headers)
    words = {"begins": portals.FIRST, "title": "Developer portal", "icon": "data:,", **said}
    text = path.read_text(encoding="utf-8")
    for word, meant in words.items():
        text = text.replace(f"%portal-{word}%", escape(meant))
    return HTMLResponse(text, headers=headers)


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


def roles_page() -> str:
    """Which role may use which route of the console's API, as a page."""
    ctx: Any = None
    document = console.create_app(ctx, settings_now()).openapi()
    return roles.page(document, roles.scopes_of(each.router for each in console.ROUTERS))
