"""The portal's API as one application."""

from __future__ import annotations

from fastapi import FastAPI

from calm_tariff.edge import own_account, own_notices, passkeys, problems, reference, signing_in
from calm_tariff.edge.processor import processor_of
from calm_tariff.portal_api.admit import (
    applications,
    downloads,
    handing_over,
    look,
    looking,
    organisation,
    outside_sign_in,
    products,
    questions,
    requests,
    sign_up,
)
from calm_tariff.portal_api.admit import reference as operations
from calm_tariff.portal_api.base.asking import COOKIE, members_here, who_asks
from calm_tariff.portal_api.house import session
from calm_tariff.portal_api.observe import alerts, allowances, answering, calls, usage
from calm_tariff.portal_api.serve import own_use, receipts
from calm_tariff.portal_api.settle import (
    account,
    cards,
    closing,
    document_files,
    invoices,
    running_month,
    subscriptions,
)
from calm_tariff.services.base.context import Context
from calm_tariff.settings import Settings

ROUTERS = (
    session,
    look,
    sign_up,
    outside_sign_in,
    handing_over,
    looking,
    organisation,
    products,
    questions,
    operations,
    downloads,
    applications,
    requests,
    own_use,
    receipts,
    invoices,
    document_files,
    account,
    cards,
    subscriptions,
    closing,
    running_month,
    allowances,
    answering,
    calls,
    usage,
    alerts,
)


def create_app(ctx: Context, settings: Settings) -> FastAPI:
    """The application, to be mounted below each portal's path, at /api/v1."""
    app = FastAPI(title="Calm Tariff portal", version="1", docs_url=None, redoc_url=None)
    app.state.ctx = ctx
    app.state.settings = settings
    app.state.processor = processor_of(settings)
    problems.tell(app)
    app.include_router(signing_in.router(members_here, COOKIE))
    app.include_router(own_account.router(members_here, COOKIE))
    app.include_router(passkeys.router(members_here, COOKIE))
    app.include_router(own_notices.router(who_asks))
    for each in ROUTERS:
        app.include_router(each.router)
    reference.serve(app, "A browser is known by its session, which begins by signing in.")
    return app
