"""What each plan of a product would cost at one's own use, what it would refuse, and which costs least."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal

from sqlalchemy.orm import Session

from calm_tariff.core import curves
from calm_tariff.core.curves import CurvePoint
from calm_tariff.core.errors import Invalid
from calm_tariff.core.estimates import MOST_AT_ONCE, Stretch, Use, cheapest, estimate, offered
from calm_tariff.core.sentences import shortfall_in_words
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.admit.portals import storefront
from calm_tariff.services.base.context import Context
from calm_tariff.services.compose.products import meters_of
from calm_tariff.services.compose.sheet.estimates import MOST, next_month
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan

_USUAL = 1000


@dataclass(frozen=True, slots=True, kw_only=True)
class MeterAsked:
    """A meter that some plan speaks of, and how many of its units a month is estimated for."""

    key: str
    name: str
    units: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanEstimate:
    """A plan at the use: a month before tax, None where an allowance refuses some of it; what it runs against, in
    words; whether it costs least; from how many units of the meter the curves are over it does, where that begins
    beyond the use; and its curve, as far as its allowances reach."""

    plan_id: int
    plan: str
    charge: Decimal | None
    shortfalls: list[str]
    cheapest: bool
    cheapest_from: Decimal | None
    points: list[CurvePoint]


@dataclass(frozen=True, slots=True, kw_only=True)
class Estimates:
    """All plans of a product at one use. Curves are over the units of the meter `along`, from 0 to `top`."""

    meters: list[MeterAsked]
    at_once: int
    along: str
    top: int
    plans: list[PlanEstimate]


def estimates(
    ctx: Context, slug: str, units: Mapping[str, Decimal], at_once: int = 1, along: str | None = None
) -> Estimates:
    """A product's plans at a use: units of a month by meter (what is usual, where none are given), and so many calls in
    one second at most. Raises `NotFound`, or `Invalid`, naming the field."""
    if not 1 <= at_once <= MOST_AT_ONCE:
        raise Invalid(f"must be between 1 and {MOST_AT_ONCE:,}", "at_once")
    with ctx.reading() as session:
        product, plans = storefront.found(session, ctx, slug)
        sold = [(plan, read(PlanTerms, plan.revisions[-1].terms)) for plan in plans]
        known = {meter.key: meter for meter in meters_of(session, product)}
        keys = [key for key in dict.fromkeys(k for _, terms in sold for k in terms.meters()) if key in known]
        wanted = {key: _units(key, units, [terms for _, terms in sold]) for key in keys}
        unknown = (set(units) | ({along} if along else set())) - set(keys)
        if unknown:
            raise Invalid(f"{min(unknown)!r} is no meter of this product", "use")
        axis = along or next(iter(keys), "")
        use = Use(units=wanted, at_once=at_once, calls=frozenset(k for k, m in known.items() if m.measure == "calls"))
        top = curves.top(axis, (terms.pricing for _, terms in sold), [wanted.get(axis, Decimal(0))])
        return Estimates(
            meters=[MeterAsked(key=key, name=known[key].name, units=wanted[key]) for key in keys],
            at_once=at_once,
            along=axis,
            top=top,
            plans=_plans(session, ctx, sold, use, known, axis=axis, top=top),
        )


def _plans(
    session: Session,
    ctx: Context,
    sold: list[tuple[Plan, PlanTerms]],
    use: Use,
    known: Mapping[str, Meter],
    *,
    axis: str,
    top: int,
) -> list[PlanEstimate]:
    month = next_month(session, ctx)
    names = {key: meter.name for key, meter in known.items()}
    found = [estimate(terms, use, month) for _, terms in sold]
    over = [offered(terms, use, month, axis, top) for _, terms in sold]
    stretches = cheapest(over) if axis else []
    least = min((e.charge for e in found if e.charge is not None), default=None)
    made = []
    for place, ((plan, _), one, curve) in enumerate(zip(sold, found, over, strict=True)):
        made.append(
            PlanEstimate(
                plan_id=plan.id,
                plan=plan.name,
                charge=one.charge,
                shortfalls=[shortfall_in_words(short, names) for short in one.shortfalls],
                cheapest=least is not None and one.charge == least,
                cheapest_from=_begins(stretches, place, use.units.get(axis, Decimal(0))),
                points=curves.corners(curves.within(curve.curve, curve.reach)) if axis else [],
            )
        )
    return made


def _units(key: str, given: Mapping[str, Decimal], terms: list[PlanTerms]) -> Decimal:
    """How many units of a meter are asked about; without a word on it, five times the least that a plan includes."""
    units = given.get(key)
    if units is None:
        included = [price.included for t in terms if (price := t.usage_price(key)) and price.included]
        return min(included) * 5 if included else Decimal(_USUAL)
    if not units.is_finite() or not 0 <= units <= MOST:
        raise Invalid(f"must be between 0 and {MOST:,}", f"use.{key}")
    return units


def _begins(stretches: list[Stretch], place: int, units: Decimal) -> Decimal | None:
    """The first whole unit beyond the use from which the plan at a place costs least."""
    for stretch in stretches:
        if stretch.place == place and stretch.start >= units and stretch.start > 0:
            return Decimal(int(stretch.start) + 1)
    return None
