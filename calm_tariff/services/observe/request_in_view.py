"""A request with everything a reviewer weighs."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound
from calm_tariff.core.estimates import Use, estimate
from calm_tariff.core.lifecycles import UNDECIDED
from calm_tariff.core.periods import DAY
from calm_tariff.core.sentences import shortfall_in_words
from calm_tariff.core.sheet_cells import Column
from calm_tariff.core.sheet_rows import SheetRow, rows
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.admit import expectations, first_trials
from calm_tariff.services.admit.applications import ApplicationView, of_consumer
from calm_tariff.services.admit.requests import RequestView, view
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.compose.products import meters_of
from calm_tariff.services.compose.sheet.estimates import next_month
from calm_tariff.services.compose.sheet.tariff_sheet import vocabulary_of
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.serve import usage_queries


@dataclass(frozen=True, slots=True, kw_only=True)
class ExpectedCharge:
    """What the volume that is expected comes to on the plan: a month's charge before tax, None where an allowance
    refuses some of it, and what it runs against, in words."""

    charge: Decimal | None
    currency: str
    shortfalls: list[str]


@dataclass(frozen=True, slots=True)
class Background:
    """What a reviewer weighs: what the plan gives, and what is known of the consumer. `trial_had`: granted, it begins
    without the plan's trial, because the consumer has had its trial of the product."""

    plan_rows: list[SheetRow]
    consumer_since: datetime
    applications: list[ApplicationView]
    earlier: list[RequestView]
    calls_28_days: dict[str, int]
    comes_to: ExpectedCharge | None
    trial_had: bool


@dataclass(frozen=True, slots=True)
class RequestWithBackground:
    """A request with everything in view."""

    request: RequestView
    background: Background


def one(ctx: Context, request_id: int) -> RequestWithBackground:
    """A request with what a reviewer weighs. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        request = session.get(AccessRequest, request_id)
        if request is None:
            raise NotFound("there is no such request", str(request_id))
        return RequestWithBackground(view(request), _background(session, ctx, request))


def _background(session: Session, ctx: Context, request: AccessRequest) -> Background:
    plan, consumer = request.plan, request.application.consumer
    terms = read(PlanTerms, plan.revisions[-1].terms)
    shown = rows([Column(plan.id, terms, None)], vocabulary_of(session, plan.product))
    earlier = session.scalars(
        select(AccessRequest)
        .join(Application, Application.id == AccessRequest.application_id)
        .where(AccessRequest.id != request.id, Application.consumer_id == consumer.id)
        .order_by(AccessRequest.id.desc())
    )
    month = usage_queries.verdicts_between(session, ctx.now_us - 28 * DAY, ctx.now_us, consumer.id)
    return Background(
        [row for row in shown if row.cells[0].sentences],
        consumer.created_at,
        of_consumer(session, consumer.id, ctx.now),
        [view(r) for r in earlier],
        month.get(consumer.id, {}),
        _comes_to(session, ctx, request, terms),
        trial_had=terms.trial is not None
        and request.moves_id is None
        and request.state in UNDECIDED
        and first_trials.had(session, consumer.id, plan.product_id),
    )


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
