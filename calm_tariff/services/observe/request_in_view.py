"""A request with everything a reviewer weighs."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import Select, select
from sqlalchemy.orm import Session

from calm_tariff.core import capacity
from calm_tariff.core.errors import NotFound
from calm_tariff.core.estimates import Use, estimate, reach
from calm_tariff.core.lifecycles import ANSWERING, ON_THE_DESK, UNDECIDED
from calm_tariff.core.periods import DAY
from calm_tariff.core.sentences import granting_in_words, shortfall_in_words
from calm_tariff.core.sheet_cells import Column
from calm_tariff.core.sheet_rows import SheetRow, rows
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read, write
from calm_tariff.services.admit import first_trials
from calm_tariff.services.admit.applications import ApplicationView, of_consumer
from calm_tariff.services.admit.desk import conversation, expectations, grants
from calm_tariff.services.admit.desk.conversation import MessageView
from calm_tariff.services.admit.desk.grants import Grant
from calm_tariff.services.admit.desk.views import RequestView, needed, view, way_of
from calm_tariff.services.base.context import ROLES, Context, provider_of
from calm_tariff.services.compose.products import meters_of
from calm_tariff.services.compose.sheet.estimates import next_month
from calm_tariff.services.compose.sheet.tariff_sheet import vocabulary_of
from calm_tariff.services.observe.consumers import MemberView
from calm_tariff.services.settle.documents import invoices
from calm_tariff.services.settle.documents.views import InvoiceSummary
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Member
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.compose.products import Plan
from calm_tariff.store.serve import usage_queries

# Of what was before, so much is shown.
EARLIER = 12


@dataclass(frozen=True, slots=True, kw_only=True)
class ExpectedCharge:
    """What the volume that is expected comes to on the plan: a month's charge before tax, None where an allowance
    refuses some of it, and what it runs against, in words."""

    charge: Decimal | None
    currency: str
    shortfalls: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class ExpectedOf:
    """How much of a meter is expected in a month, and how much the plan lets in; None where it does not refuse any."""

    meter: str
    units: Decimal
    allowed: Decimal | None


@dataclass(frozen=True, slots=True, kw_only=True)
class BackEndLoad:
    """What the back end of an API version takes in calls a second, None where that is not known; what the product's
    subscriptions may make together by their rates; and what they may once this one is granted."""

    version: str
    takes: int | None
    sold: int
    then: int


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanToGrant:
    """A plan that could be granted in place of the one that was asked for."""

    id: int
    name: str
    limits: list[dict[str, Any]]


@dataclass(frozen=True, slots=True, kw_only=True)
class Background:
    """What a reviewer weighs: what the plan gives, and what is known of the consumer. `trial_had`: granted, it begins
    without the plan's trial, because the consumer has had its trial of the product. `on_granting` says what a grant
    does, `grant` what is granted otherwise than asked as those who agreed have it."""

    plan_rows: list[SheetRow]
    consumer_since: datetime
    members: list[MemberView]
    applications: list[ApplicationView]
    earlier: list[RequestView]
    invoices: list[InvoiceSummary]
    calls_28_days: dict[str, int]
    comes_to: ExpectedCharge | None
    expects: list[ExpectedOf]
    back_ends: list[BackEndLoad]
    trial_had: bool
    on_granting: list[str]
    grant: Grant
    granted_otherwise: list[str]
    plans: list[PlanToGrant]
    currency: str
    subscription_id: int | None


@dataclass(frozen=True, slots=True)
class RequestWithBackground:
    """A request with everything in view, and what was said about it."""

    request: RequestView
    background: Background
    messages: list[MessageView]


def one(ctx: Context, request_id: int) -> RequestWithBackground:
    """A request with what a reviewer weighs. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        request = session.get(AccessRequest, request_id)
        if request is None:
            raise NotFound("there is no such request", str(request_id))
        said = conversation.of(session, request_id, inside=True)
        return RequestWithBackground(view(request, ctx.now), _background(session, ctx, request), said)


def _background(session: Session, ctx: Context, request: AccessRequest) -> Background:
    plan, consumer = request.plan, request.application.consumer
    terms = read(PlanTerms, plan.revisions[-1].terms)
    shown = rows([Column(plan.id, terms, None)], vocabulary_of(session, plan.product))
    earlier = session.scalars(
        select(AccessRequest)
        .join(Application, Application.id == AccessRequest.application_id)
        .where(AccessRequest.id != request.id, Application.consumer_id == consumer.id)
        .order_by(AccessRequest.id.desc())
        .limit(EARLIER)
    )
    members = select(Member).filter_by(consumer_id=consumer.id, left_at=None).order_by(Member.id)
    month = usage_queries.verdicts_of(session, ctx.now_us - 28 * DAY, ctx.now_us, consumer.id)
    had = first_trials.had(session, consumer.id, plan.product_id)
    begins = request.moves_id is None and request.state in UNDECIDED
    wanted = grants.of(request)
    return Background(
        plan_rows=[row for row in shown if row.cells[0].sentences],
        consumer_since=consumer.created_at,
        members=[MemberView(m.id, m.name, m.email, m.role) for m in session.scalars(members)],
        applications=of_consumer(session, consumer.id, ctx.now),
        earlier=[view(r, ctx.now) for r in earlier],
        invoices=invoices.of_consumer(session, consumer.id, issued_only=True)[:EARLIER],
        calls_28_days=month,
        comes_to=_comes_to(session, ctx, request, terms),
        expects=_expects(session, ctx, request, terms),
        back_ends=_back_ends(session, request, terms),
        trial_had=terms.trial is not None and begins and had,
        on_granting=granting_in_words(
            request.application.name,
            f"{plan.product.name} · {plan.name}",
            needed(request),
            way_of(request),
            moves_from=request.moves.plan.name if request.moves else None,
            later=request.moves_when == "later",
            free_days=terms.trial.days if terms.trial and begins and not had else 0,
        )
        if request.state in ON_THE_DESK
        else [],
        grant=wanted,
        granted_otherwise=grants.in_words(session, request, wanted) if request.state in UNDECIDED else [],
        plans=[_to_grant(p) for p in plan.product.plans if p.state == "on sale" or p is plan],
        currency=provider_of(session).currency,
        subscription_id=request.moves_id or session.scalar(_subscribed(request)),
    )


def _subscribed(request: AccessRequest) -> Select[int]:
    return select(Subscription.id).where(Subscription.request_id == request.id)


def _to_grant(plan: Plan) -> PlanToGrant:
    terms = read(PlanTerms, plan.revisions[-1].terms)
    return PlanToGrant(id=plan.id, name=plan.name, limits=[write(limit) for limit in terms.limits])


def _expects(session: Session, ctx: Context, request: AccessRequest, terms: PlanTerms) -> list[ExpectedOf]:
    """What is expected of each meter beside what the plan's allowances let in."""
    expected = expectations.of(request)
    month = next_month(session, ctx) if expected else None
    return [
        ExpectedOf(meter=each.name, units=each.units, allowed=reach(terms, each.key, month))
        for each in expected
        if month is not None
    ]


def _back_ends(session: Session, request: AccessRequest, terms: PlanTerms) -> list[BackEndLoad]:
    """What the product's back ends take, and what is sold of it."""
    product = request.plan.product
    counts = subscribers.subscriptions_by_plan(session, product.id)
    plans = [(read(PlanTerms, p.revisions[-1].terms), counts.get(p.id, 0)) for p in product.plans if p.revisions]
    sold = capacity.sold(plans)
    more = capacity.promised(terms) if request.moves_id is None and request.state in UNDECIDED else 0
    versions = {o.api_version_id: o.api_version for o in product.operations if o.retired_at is None}
    return [
        BackEndLoad(
            version=f"{v.api.name} {v.version}",
            takes=v.capacity_per_second or None,
            sold=int(sold),
            then=int(sold + more),
        )
        for v in versions.values()
        if v.state in ANSWERING
    ]


def _comes_to(session: Session, ctx: Context, request: AccessRequest, terms: PlanTerms) -> ExpectedCharge | None:
    """The estimate of what a request expects, where it says something."""
    expected = expectations.of(request)
    if not expected:
        return None
    known = {meter.key: meter for meter in meters_of(session, request.plan.product)}
    units = {each.key: each.units for each in expected if each.key in known}
    calls = frozenset(key for key in units if known[key].measure == "calls")
    month = next_month(session, ctx)
    found = estimate(terms, Use(units=units, calls=calls), month)
    names = {key: meter.name for key, meter in known.items()}
    return ExpectedCharge(
        charge=found.charge,
        currency=month.currency,
        shortfalls=[shortfall_in_words(short, names) for short in found.shortfalls],
    )
