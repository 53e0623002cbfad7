"""What a month of a quantity would cost on a plan."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from sqlalchemy.orm import Session

from calm_tariff.core import estimates as core
from calm_tariff.core.errors import Invalid
from calm_tariff.core.estimates import Month, Use
from calm_tariff.core.periods import local_day, month_of, month_step, zone
from calm_tariff.core.terms import PlanTerms
from calm_tariff.services.base.context import ROLES, Context, provider_of
from calm_tariff.services.compose.products import get
from calm_tariff.services.compose.sheet.tariff_sheet import columns

MOST = 10**12


@dataclass(frozen=True, slots=True)
class Estimate:
    """What a month of a quantity costs on a plan, before tax; None where the plan refuses it."""

    plan_id: int
    plan: str
    charge: Decimal | None


def estimate(ctx: Context, product_id: int, meter: str, units: Decimal) -> list[Estimate]:
    """A whole month at a quantity of one meter on every plan of the sheet, as drafted, exactly."""
    ctx.actor.must_be(*ROLES)
    if not 0 <= units <= 10**12:
        raise Invalid("must be between 0 and 1,000,000,000,000", "units")
    with ctx.reading() as session:
        get(session, product_id)
        made = []
        for plan, column in columns(session, product_id):
            made.append(Estimate(plan.id, plan.name, of_terms(session, ctx, column.terms, meter, units)))
        return made


def of_terms(session: Session, ctx: Context, terms: PlanTerms, meter: str | None, units: Decimal) -> Decimal | None:
    """Next month at a quantity of one meter, before tax; None where an allowance refuses before."""
    use = Use(units={meter: units} if meter else {})
    return core.estimate(terms, use, next_month(session, ctx)).charge


def next_month(session: Session, ctx: Context) -> Month:
    """The month that is estimated: the next, whole one."""
    provider = provider_of(session)
    period = month_of(month_step(local_day(ctx.now_us, zone(provider.time_zone)), 1))
    return Month(period=period, currency=provider.currency, time_zone=provider.time_zone)
