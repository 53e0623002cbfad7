"""The console's API as one application."""

from __future__ import annotations

from fastapi import FastAPI

from calm_tariff.console_api import (
    admit,
    apis,
    bench,
    credentials,
    meters,
    observe,
    products,
    service_tokens,
    session,
    settle,
    tariff,
)
from calm_tariff.console_api.asking import COOKIE
from calm_tariff.edge import problems, reference, signing_in
from calm_tariff.services.context import Context
from calm_tariff.settings import Settings


def create_app(ctx: Context, settings: Settings) -> FastAPI:
    """The application, to be mounted at /api/v1."""
    app = FastAPI(title="Calm Tariff console", version="1", docs_url=None, redoc_url=None)
    app.state.ctx = ctx
    app.state.settings = settings
    problems.tell(app)
    app.include_router(signing_in.router("person", COOKIE))
    places = (session, service_tokens, apis, bench, credentials, meters, products, tariff, admit, observe, settle)
    for place in places:
        app.include_router(place.router)
    reference.serve(app, "A script is known by a service token (Authorization: Bearer), a browser by its session.")
    return app
