"""The portal's API as one application."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated, Any, Literal

from fastapi import Depends, FastAPI, Request, Response
from fastapi.responses import JSONResponse
from pydantic import BaseModel, Field

from calm_tariff.core.meters import Environment
from calm_tariff.edge import problems, reference, signing_in
from calm_tariff.edge.asking import address_of, asking, begin_session, context_of, same_origin
from calm_tariff.services import (
    admission,
    allowances,
    applications,
    invoices,
    people,
    receipts,
    sign_up,
    storefront,
    traffic,
)
from calm_tariff.services.admission import RequestView, TermsToAccept
from calm_tariff.services.allowances import Gauge
from calm_tariff.services.applications import ApplicationView, KeyView, Kind, NewKey
from calm_tariff.services.context import Context
from calm_tariff.services.invoices import DayUnits, InvoiceSummary, InvoiceView
from calm_tariff.services.people import SignIn
from calm_tariff.services.receipts import Receipt
from calm_tariff.services.sign_up import SignUpTyped
from calm_tariff.services.storefront import Look, ProductLine, Storefront
from calm_tariff.services.traffic import CallLine
from calm_tariff.settings import Settings
from calm_tariff.store.call_queries import CallFilter
from calm_tariff.store.paging import Page

COOKIE = "calm_portal"
Asking = Annotated[Context, Depends(asking(COOKIE, "member"))]


class Member(BaseModel):
    """Who is signed in; empty where nobody is."""

    name: str
    consumer: str
    look: Look
    demo: list[SignIn]


class SignUpIn(BaseModel):
    """Whose account it is to be."""

    email: str = Field(max_length=1000)


class ConfirmIn(BaseModel):
    """What somebody types whose letter has come, with the letter's token."""

    token: str = Field(max_length=200)
    name: str = Field(max_length=200)
    organisation: str = Field(max_length=200)
    password: str = Field(max_length=1000)


class ApplicationIn(BaseModel):
    """An application to register."""

    name: str = Field(max_length=200)
    description: str = ""


class RequestIn(BaseModel):
    """A request for a plan."""

    application_id: int
    plan_id: int
    purpose: str
    terms_accepted: bool


class KeyIn(BaseModel):
    """A key to make, or a secret for the client id; good from and until a moment, or to the end of a day in the
    provider's zone, if given."""

    label: str = Field(default="", max_length=200)
    environment: Environment = "live"
    kind: Kind = "key"
    starts_at: datetime | None = None
    expires_at: datetime | None = None
    last_day: date | None = None


class TagsIn(BaseModel):
    """An application's own words, by name."""

    tags: dict[str, str]


def create_app(ctx: Context, settings: Settings) -> FastAPI:
    """The application, to be mounted at /portal/api/v1."""
    app = FastAPI(title="Calm Tariff portal", version="1", docs_url=None, redoc_url=None)
    app.state.ctx = ctx
    app.state.settings = settings
    problems.tell(app)
    app.include_router(signing_in.router("member", COOKIE))
    _sessions(app, settings)
    _browsing(app)
    _own_things(app)
    reference.serve(app, "A browser is known by its session, which begins by signing in.")
    return app


def _sessions(app: FastAPI, settings: Settings) -> None:
    @app.get("/me")
    def me(ctx: Asking) -> Member:
        """Who is signed in, and how the portal looks."""
        demo = people.demo_members(ctx) if settings.demo else []
        look = storefront.look(ctx, settings.gateway_address)
        name = ctx.actor.name if ctx.actor.consumer_id else ""
        return Member(name=name, consumer=ctx.actor.consumer, look=look, demo=demo)

    @app.post("/sign-up", status_code=204, dependencies=[Depends(same_origin)])
    def sign_up_(request: Request, typed: SignUpIn) -> None:
        """Have a letter sent with which an account can be made. The answer is the same for every address."""
        sign_up.ask(context_of(request), typed.email, address_of(request))

    @app.post("/sign-up/confirm", status_code=204, dependencies=[Depends(same_origin)])
    def confirm(request: Request, response: Response, typed: ConfirmIn) -> None:
        """Make an account for an organisation by the token of a letter, and sign in."""
        chosen = SignUpTyped(name=typed.name, organisation=typed.organisation, password=typed.password)
        token = sign_up.confirm(context_of(request), typed.token, chosen, address_of(request))
        begin_session(request, response, COOKIE, token)


def _browsing(app: FastAPI) -> None:
    @app.get("/products")
    def products(ctx: Asking) -> list[ProductLine]:
        """Products with a plan on sale."""
        return storefront.products(ctx)

    @app.get("/products/{slug}")
    def product(ctx: Asking, slug: str, units: int = 10_000) -> Storefront:
        """One product, its plans priced for a month of `units`."""
        return storefront.product(ctx, slug, units)


def _own_things(app: FastAPI) -> None:
    @app.get("/applications")
    def own_applications(ctx: Asking) -> list[ApplicationView]:
        """One's applications with keys and plans."""
        return applications.own(ctx)

    @app.post("/applications", status_code=201)
    def register(ctx: Asking, typed: ApplicationIn) -> ApplicationView:
        """Register an application."""
        return applications.register(ctx, typed.name, typed.description)

    @app.post("/applications/{application_id}/keys", status_code=201)
    def make_key(ctx: Asking, application_id: int, typed: KeyIn) -> NewKey:
        """Make a key; its secret is in this answer only."""
        return applications.make_key(ctx, application_id, **typed.model_dump())

    @app.put("/applications/{application_id}/tags")
    def set_tags(ctx: Asking, application_id: int, typed: TagsIn) -> ApplicationView:
        """Change an application's tags."""
        return applications.set_tags(ctx, application_id, typed.tags)

    @app.delete("/keys/{key_id}")
    def revoke_key(ctx: Asking, key_id: int) -> KeyView:
        """Revoke a key at once."""
        return applications.revoke_key(ctx, key_id)

    @app.post("/requests", status_code=201)
    def ask(ctx: Asking, typed: RequestIn) -> RequestView:
        """Ask for a plan."""
        return admission.ask(ctx, typed.application_id, typed.plan_id, typed.purpose, typed.terms_accepted)

    @app.get("/terms-to-accept")
    def terms_to_accept(ctx: Asking) -> list[TermsToAccept]:
        """New terms of use of one's subscriptions that nobody here has accepted yet."""
        return admission.to_accept(ctx)

    @app.post("/products/{slug}/terms", status_code=204)
    def accept_terms(ctx: Asking, slug: str) -> None:
        """Accept the newest terms of use of a product."""
        admission.accept_terms(ctx, slug)

    @app.delete("/requests/{request_id}")
    def take_back(ctx: Asking, request_id: int) -> RequestView:
        """Take a request back."""
        return admission.take_back(ctx, request_id)

    @app.get("/allowances")
    def own_allowances(ctx: Asking) -> list[Gauge]:
        """One's allowances."""
        return allowances.own(ctx)

    @app.get("/calls")
    def own_calls(
        ctx: Asking,
        verdict: Literal["served", "held", "refused"] | None = None,
        subscription: int | None = None,
        meter: int | None = None,
        since_us: int | None = None,
        until_us: int | None = None,
        cursor: str | None = None,
    ) -> Page[CallLine]:
        """One's calls, newest first."""
        wanted = CallFilter(
            verdict=verdict, subscription_id=subscription, meter_id=meter, since_us=since_us, until_us=until_us
        )
        return traffic.own_log(ctx, wanted, cursor)

    @app.get("/calls/{call_id}/receipt")
    def own_receipt(ctx: Asking, call_id: str) -> Receipt:
        """The receipt of one's own call."""
        return receipts.own_receipt(ctx, call_id)

    @app.get("/invoices")
    def own_invoices(ctx: Asking) -> list[InvoiceSummary]:
        """One's issued invoices."""
        return invoices.own(ctx)

    @app.get("/invoices/{invoice_id}")
    def own_invoice(ctx: Asking, invoice_id: int) -> InvoiceView:
        """One's own invoice."""
        return invoices.own_one(ctx, invoice_id)

    @app.get("/invoices/{invoice_id}/evidence")
    def own_evidence(ctx: Asking, invoice_id: int) -> JSONResponse:
        """The evidence file of one's own invoice."""
        evidence: dict[str, Any] = invoices.own_evidence(ctx, invoice_id)
        name = f'attachment; filename="evidence-{invoice_id}.json"'
        return JSONResponse(evidence, headers={"content-disposition": name})

    @app.get("/lines/{line_id}/days")
    def own_days(ctx: Asking, line_id: int) -> list[DayUnits]:
        """The days behind a line of one's own invoice."""
        return invoices.own_days(ctx, line_id)
