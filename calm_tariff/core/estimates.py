"""What a whole month would cost at a use, and what of it a plan would refuse: the estimate of sheets and portals
(docs/arithmetic.md, sections 1 and 3)."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction

from calm_tariff.core import curves
from calm_tariff.core.curves import Curve
from calm_tariff.core.limiter import Clock, Stack
from calm_tariff.core.limits import Call, Limit, Quota
from calm_tariff.core.periods import DAY, HOUR, MINUTE, Every, Period, day_start, moment_of, zone
from calm_tariff.core.rating import Pricing, RatingCase, Segment, rate
from calm_tariff.core.terms import PlanTerms

MOST_AT_ONCE = 1000
_LONG: dict[Every, int] = {"minute": MINUTE, "hour": HOUR, "day": DAY, "week": 7 * DAY}


@dataclass(frozen=True, slots=True, kw_only=True)
class Use:
    """A month's units by meter, and how many calls come in one second at most. `calls` are the meters whose units are
    calls."""

    units: Mapping[str, Decimal]
    at_once: int = 1
    calls: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True, kw_only=True)
class Month:
    """The month that is estimated, and in which money and whose days."""

    period: Period
    currency: str
    time_zone: str


@dataclass(frozen=True, slots=True)
class Shortfall:
    """A limit that a use runs against: so many are wanted, so many let in (of a quota in the month, otherwise at
    once). Where `wait_us` is more than 0, all are let in, the last after so long."""

    limit: Limit
    wanted: Decimal
    let_in: Decimal
    wait_us: int = 0


@dataclass(frozen=True, slots=True)
class Estimate:
    """What a use costs on a plan, before tax; None where an allowance refuses some of it."""

    charge: Decimal | None
    shortfalls: tuple[Shortfall, ...]


def estimate(terms: PlanTerms, use: Use, month: Month) -> Estimate:
    """A month of a use on a plan: rated as an invoice is, held against the plan's limits."""
    short = (*_allowances(terms, use, month), *_at_once(terms, use, month))
    refused = any(isinstance(each.limit, Quota) for each in short)
    return Estimate(None if refused else whole_month(terms.pricing, use.units, month), short)


def whole_month(pricing: Pricing, units: Mapping[str, Decimal], month: Month) -> Decimal:
    """A month from its first to its last day with these units by meter, before tax: rated as an invoice is."""
    where = zone(month.time_zone)
    start = moment_of(day_start(month.period.start, where)).astimezone(where)
    case = RatingCase(
        currency=month.currency,
        time_zone=month.time_zone,
        period=month.period,
        tax_percent=Decimal(0),
        segments=(Segment(start=start, end=None, plan=pricing, usage=dict(units)),),
    )
    return rate(case).subtotal


def reach(terms: PlanTerms, meter: str, month: Month) -> Decimal | None:
    """How many units of a meter a plan's allowances let in, spread evenly over the month; None for any number."""
    return min((_in_month(q, month) for q in _refusing(terms) if q.meter == meter), default=None)


@dataclass(frozen=True, slots=True, kw_only=True)
class Offered:
    """A plan in a comparison: its month as a function of one meter, the other units as they are, as far as its
    allowances reach."""

    curve: Curve
    reach: Decimal | None


def offered(terms: PlanTerms, use: Use, month: Month, along: str, top: int) -> Offered:
    """A plan over one meter from 0 to `top`; nowhere reached where it refuses the other units already."""
    others = {meter: units for meter, units in use.units.items() if meter != along}
    curve = curves.charge_curve(terms.pricing, along, top, others)
    other_refused = any(
        isinstance(each.limit, Quota) and each.limit.meter != along
        for each in _allowances(terms, Use(units=others, calls=use.calls), month)
    )
    return Offered(curve=curve, reach=Decimal(-1) if other_refused else reach(terms, along, month))


@dataclass(frozen=True, slots=True)
class Stretch:
    """From more than `start` (or from 0) to `end` units, the plan of this place costs least; None: none reaches."""

    start: Fraction
    end: Fraction
    place: int | None


def cheapest(plans: Sequence[Offered]) -> list[Stretch]:
    """Which plan costs least over one meter, in stretches that join; of two that cost the same, the earlier. Exact."""
    if not plans:
        return []
    top = min(plan.curve[-1].end for plan in plans)
    corners = {Fraction(0), top}
    for at, plan in enumerate(plans):
        corners |= {piece.end for piece in plan.curve}
        if plan.reach is not None:
            corners.add(Fraction(plan.reach))
        for other in plans[at + 1 :]:
            corners |= set(curves.break_evens(plan.curve, other.curve))
    found: list[Stretch] = []
    cuts = sorted(corner for corner in corners if 0 <= corner <= top)
    for start, end in itertools.pairwise(cuts):
        middle = (start + end) / 2
        reaching = [
            (curves.charge_at(plan.curve, middle), at)
            for at, plan in enumerate(plans)
            if plan.reach is None or middle <= plan.reach
        ]
        place = min(reaching)[1] if reaching else None
        if found and found[-1].place == place:
            found[-1] = Stretch(found[-1].start, end, place)
        else:
            found.append(Stretch(start, end, place))
    return found


def _refusing(terms: PlanTerms) -> list[Quota]:
    """The allowances of a plan that refuse when they are spent, whatever is called."""
    whole = (limit for limit in terms.limits if isinstance(limit, Quota) and limit.applies_to is None)
    return [quota for quota in whole if quota.when_spent == "refuse"]


def _allowances(terms: PlanTerms, use: Use, month: Month) -> list[Shortfall]:
    short = []
    calls = sum((units for meter, units in use.units.items() if meter in use.calls), Decimal(0))
    for quota in _refusing(terms):
        wanted = calls if quota.meter is None else use.units.get(quota.meter, Decimal(0))
        most = _in_month(quota, month)
        if wanted > most:
            short.append(Shortfall(quota, wanted, most))
    return short


def _in_month(quota: Quota, month: Month) -> Decimal:
    """What a quota lets in of a month, used evenly: whole units."""
    if quota.every == "month":
        return Decimal(quota.units)
    if quota.every == "day":
        return Decimal(quota.units) * (month.period.end - month.period.start).days
    where = zone(month.time_zone)
    length = day_start(month.period.end, where) - day_start(month.period.start, where)
    return Decimal(int(Fraction(quota.units) * length / _LONG[quota.every]))


def _at_once(terms: PlanTerms, use: Use, month: Month) -> list[Shortfall]:
    """What a plan's rates make of the most calls of one second, all at once on one key, by the limiter itself."""
    limits = [limit for limit in terms.limits if not isinstance(limit, Quota) and limit.applies_to is None]
    start = day_start(month.period.start, zone(month.time_zone))
    stack = Stack(limits, zone(month.time_zone), start)
    counts: dict[tuple[str, str], object] = {}
    clock = Clock()
    let_in, wait = 0, 0
    for _ in range(min(use.at_once, MOST_AT_ONCE)):
        call = Call(at_us=start, key="k", application="a", consumer="c", subscription="s", operation="")
        decision = stack.decide(call, counts, clock)
        if decision.verdict == "refused":
            by = next(limit for limit in limits if limit.name == decision.by)
            return [Shortfall(by, Decimal(use.at_once), Decimal(let_in))]
        let_in += 1
        wait = max(wait, decision.wait_us)
    if wait:
        by = next(limit for limit in limits if limit.kind == "pace")
        return [Shortfall(by, Decimal(use.at_once), Decimal(let_in), wait)]
    return []
