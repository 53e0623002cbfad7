"""The margin of a tariff sheet: what a draft would cost, whom it touches, and what looks wrong."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core import checks, curves
from calm_tariff.core.checks import MeterStanding, Sold
from calm_tariff.core.curves import CurvePoint
from calm_tariff.core.estimates import Month, reach
from calm_tariff.core.lifecycles import ANSWERING
from calm_tariff.core.periods import local_day, month_of, period_before
from calm_tariff.core.rating import rate
from calm_tariff.core.terms import PlanTerms
from calm_tariff.services.base.context import ROLES, Context, provider_of, zone_of
from calm_tariff.services.compose.products import get, meters_of
from calm_tariff.services.compose.sheet.estimates import next_month
from calm_tariff.services.compose.sheet.tariff_sheet import columns
from calm_tariff.services.settle import rating_cases
from calm_tariff.store.admit import subscribers
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan, Product


@dataclass(frozen=True, slots=True)
class PlanCurve:
    """A plan's month as a function of a meter's units; `as_now` is the live one where it differs."""

    plan_id: int
    plan: str
    points: list[CurvePoint]
    as_now: list[CurvePoint] | None


@dataclass(frozen=True, slots=True)
class BreakEven:
    """From `units` on, `then` costs less than `until_then`."""

    until_then: str
    then: str
    units: int


@dataclass(frozen=True, slots=True, kw_only=True)
class MeterCurves:
    """All plans over one meter. `consumers` are last month's quantities, the ticks on the axis."""

    meter: str
    name: str
    top: int
    curves: list[PlanCurve]
    break_evens: list[BreakEven]
    consumers: list[int]


@dataclass(frozen=True, slots=True)
class Affected:
    """What a draft would have changed for one consumer."""

    consumer_id: int
    consumer: str
    before: Decimal
    after: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class Consequences:
    """The whole margin. Charges are before tax, over the last closed period."""

    period: str
    before: Decimal
    after: Decimal
    consumers: list[Affected]
    meters: list[MeterCurves]
    worth_a_look: list[str]


def consequences(ctx: Context, product_id: int) -> Consequences:
    """What the drafts of a sheet would do. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        product = get(session, product_id)
        both = columns(session, product_id)
        today = local_day(ctx.now_us, zone_of(session))
        last = period_before(month_of(today))
        cases = rating_cases.cases(session, last, product_id=product_id)
        drafts = {plan.id: column.terms.pricing for plan, column in both if plan.draft}
        affected = [
            Affected(c.consumer_id, c.consumer, rate(c.case).subtotal, rate(c.with_pricing(drafts)).subtotal)
            for c in cases
        ]
        quantities: dict[str, list[int]] = {}
        for case in cases:
            totals: dict[str, Decimal] = {}
            for segment in case.case.segments:
                for meter, units in segment.usage.items():
                    totals[meter] = totals.get(meter, Decimal(0)) + units
            for meter, units in totals.items():
                quantities.setdefault(meter, []).append(int(units))
        named = [(plan.name, plan.id, column.terms, column.live) for plan, column in both]
        month = next_month(session, ctx)
        drawn = [
            _curves(m.key, m.name, named, sorted(quantities.get(m.key, [])), month) for m in meters_of(session, product)
        ]
        return Consequences(
            period=f"{last.start:%B}",
            before=sum((a.before for a in affected), Decimal(0)),
            after=sum((a.after for a in affected), Decimal(0)),
            consumers=sorted(affected, key=lambda a: (-abs(a.after - a.before), a.consumer)),
            meters=[d for d in drawn if d.curves],
            worth_a_look=_worth_a_look(session, product, [(plan, column.terms) for plan, column in both]),
        )


Named = tuple[str, int, PlanTerms, PlanTerms | None]


def _curves(meter: str, name: str, plans: list[Named], consumers: list[int], month: Month) -> MeterCurves:
    top = curves.top(meter, (terms.pricing for _, _, terms, _ in plans), consumers[-1:])

    def curve_of(terms: PlanTerms) -> curves.Curve:
        return curves.within(curves.charge_curve(terms.pricing, meter, top), reach(terms, meter, month))

    drawn: list[PlanCurve] = []
    exact: list[tuple[str, curves.Curve]] = []
    for plan, plan_id, terms, live in plans:
        curve = curve_of(terms)
        if not curve:
            continue
        exact.append((plan, curve))
        now = curve_of(live) if live and live.pricing != terms.pricing else None
        drawn.append(PlanCurve(plan_id, plan, curves.corners(curve), curves.corners(now) if now else None))
    return MeterCurves(
        meter=meter, name=name, top=top, curves=drawn, break_evens=_break_evens(exact), consumers=consumers
    )


def _break_evens(exact: list[tuple[str, curves.Curve]]) -> list[BreakEven]:
    found = []
    for (one, a), (other, b) in itertools.pairwise(exact):
        for units in curves.break_evens(a, b):
            beyond = Decimal(int(units) + 1)
            inside = beyond <= min(a[-1].end, b[-1].end)
            other_wins = inside and curves.charge_at(b, beyond) < curves.charge_at(a, beyond)
            cheaper = other if other_wins else one
            found.append(BreakEven(one if cheaper == other else other, cheaper, int(-(-units // 1))))
    return found


def _worth_a_look(session: Session, product: Product, plans: list[tuple[Plan, PlanTerms]]) -> list[str]:
    counts = subscribers.subscriptions_by_plan(session, product.id)
    checked = [checks.CheckedPlan(plan.name, terms, counts.get(plan.id, 0)) for plan, terms in plans]
    sold = {o.id for o in product.operations if o.retired_at is None and o.api_version.state in ANSWERING}
    standing = {
        m.key: MeterStanding(m.name, m.state, any(o.id in sold for o in m.operations))
        for m in session.scalars(select(Meter).options(selectinload(Meter.operations)))
    }
    versions = {o.api_version_id: o.api_version for o in product.operations}
    capacities = {
        f"{v.api.name} {v.version}": v.capacity_per_second for v in versions.values() if v.capacity_per_second
    }
    unreachable = tuple(o.label for o in product.operations if o.id not in sold)
    return checks.remarks(product.name, checked, standing, Sold(unreachable, capacities), provider_of(session).currency)
