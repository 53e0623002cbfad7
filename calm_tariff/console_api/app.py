"""The console's API as one application."""

from __future__ import annotations

from fastapi import FastAPI

from calm_tariff.console_api.admit import (
    carrying_over,
    details,
    groups,
    imports,
    letting_in,
    looking,
    on_behalf,
    overrides,
    portals,
    questions,
    requests,
    signing_keys,
    suspending,
    tariff,
    ticket_desk,
)
from calm_tariff.console_api.base.asking import COOKIE, within_scope
from calm_tariff.console_api.compose import (
    apis,
    documents,
    house_limits,
    issuers,
    meters,
    operations,
    plans,
    products,
    release_notes,
)
from calm_tariff.console_api.house import endpoints, notices, outside_sign_in, record, service_tokens, session
from calm_tariff.console_api.house import people as people_api
from calm_tariff.console_api.house import settings as settings_api
from calm_tariff.console_api.observe import allowances, consumers, merging, own_data, subscriptions, today, traffic
from calm_tariff.console_api.serve import bench, instances, jobs, meter_preview, receipts, usage_files, usage_sent
from calm_tariff.console_api.settle import (
    accounts,
    bank,
    books,
    cards,
    closing,
    consequences,
    handoff,
    journal,
    moves,
    periods,
    strikes,
    usage_months,
)
from calm_tariff.console_api.settle.documents import corrections, document_files, exports, invoices
from calm_tariff.edge import own_account, own_notices, passkeys, problems, reference, signing_in
from calm_tariff.edge.outside_billing import outside_billing_of
from calm_tariff.edge.processor import processor_of
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.people import people
from calm_tariff.settings import Settings

# Where a path could be read as another's, the plainer comes first: /meters/preview before /meters/{meter_id}.
ROUTERS = (
    session,
    people_api,
    outside_sign_in,
    record,
    settings_api,
    service_tokens,
    endpoints,
    notices,
    apis,
    operations,
    release_notes,
    documents,
    house_limits,
    issuers,
    meter_preview,
    meters,
    products,
    plans,
    groups,
    portals,
    letting_in,
    suspending,
    imports,
    looking,
    on_behalf,
    details,
    questions,
    requests,
    overrides,
    carrying_over,
    signing_keys,
    tariff,
    ticket_desk,
    bench,
    receipts,
    instances,
    jobs,
    usage_files,
    usage_sent,
    periods,
    corrections,
    invoices,
    document_files,
    exports,
    accounts,
    bank,
    cards,
    books,
    journal,
    handoff,
    consequences,
    closing,
    moves,
    usage_months,
    strikes,
    today,
    traffic,
    allowances,
    subscriptions,
    consumers,
    own_data,
    merging,
)


def create_app(ctx: Context, settings: Settings) -> FastAPI:
    """The application, to be mounted at /api/v1."""
    app = FastAPI(title="Calm Tariff console", version="1", docs_url=None, redoc_url=None)
    app.state.ctx = ctx
    app.state.settings = settings
    app.state.processor = processor_of(settings)
    app.state.outside_billing = outside_billing_of(settings)
    problems.tell(app)
    app.include_router(signing_in.router(people, COOKIE))
    app.include_router(own_account.router(people, COOKIE))
    app.include_router(passkeys.router(people, COOKIE))
    app.include_router(own_notices.router(within_scope))
    for each in ROUTERS:
        app.include_router(each.router)
    reference.serve(app, "A script is known by a service token (Authorization: Bearer), a browser by its session.")
    return app
