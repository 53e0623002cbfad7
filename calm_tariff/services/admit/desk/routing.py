"""Which way a request goes, what it weighs, and by when it is to be answered: settled when it is made."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from sqlalchemy.orm import Session

from calm_tariff.core import targets
from calm_tariff.core.estimates import Month, whole_month
from calm_tariff.core.meters import Environment
from calm_tariff.core.periods import moment_of, zone
from calm_tariff.core.routes import Facts, Way, way
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.admit import groups
from calm_tariff.services.admit.desk.expectations import NOTHING, Expected
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.services.compose import routes
from calm_tariff.services.compose.sheet.estimates import next_month
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.compose.products import Plan


@dataclass(frozen=True, slots=True, kw_only=True)
class Routed:
    """What was settled of a request: its way, what a month of it is expected to be charged, before tax, and by when it
    is to be answered."""

    way: Way
    weight: Decimal
    due_at: datetime | None


def routed(
    session: Session, ctx: Context, plan: Plan, application: Application, expected: Sequence[Expected] = ()
) -> Routed:
    """Send a request for a plan on its way."""
    units, month = {each.key: each.units for each in expected}, next_month(session, ctx)
    mine = groups.of_consumer(session, application.consumer_id)
    environment: Environment = "sandbox" if application.environment == "sandbox" else "live"
    days = plan.product.target_days
    return Routed(
        way=way_for(plan, month, groups=mine, environment=environment, expected=units),
        weight=_charge(plan, month, units),
        due_at=None if days is None else _due(session, ctx, days),
    )


def _due(session: Session, ctx: Context, days: int) -> datetime:
    provider = provider_of(session)
    return moment_of(targets.due(ctx.now_us, days, zone(provider.time_zone), provider.working_days))


def way_for(
    plan: Plan,
    month: Month,
    *,
    groups: frozenset[int],
    environment: Environment,
    expected: Mapping[str, Decimal] = NOTHING,
) -> Way:
    """How a request for a plan by a consumer in these groups would be decided."""
    facts = Facts(
        plan=plan.id,
        groups=groups,
        environment=environment,
        expected=expected,
        charge=_charge(plan, month, expected),
    )
    return way(routes.of(plan.product), facts)


def _charge(plan: Plan, month: Month, units: Mapping[str, Decimal]) -> Decimal:
    return whole_month(read(PlanTerms, plan.revisions[-1].terms).pricing, units, month)
