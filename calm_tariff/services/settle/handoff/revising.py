"""Making what is to be told of each hour: once it is due its units, and whenever more or fewer are recorded of it later
the difference. Whatever is told of an hour comes to what is recorded of it, however often and by whomever it is looked
at.

Source: docs/arithmetic.md, section 8.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from sqlalchemy import Select, func, insert, select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core import stays
from calm_tariff.core.billing.handoff import Revision, Told, UsageHour, due_until, next_due, revisions
from calm_tariff.core.periods import DAY, HOUR, day_start, moment_of
from calm_tariff.services.base.context import Context, zone_of
from calm_tariff.services.settle import rating_cases
from calm_tariff.services.settle.handoff import handing_on
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.compose.products import Plan, PlanRevision
from calm_tariff.store.serve import usage_queries
from calm_tariff.store.serve.usage import DailyUsage, HourlyUsage
from calm_tariff.store.settle.handoff import HandedUnits, OutsideProduct

LOOK, LOOK_EVERYWHERE = "look what is to be handed on", "look whether all was handed on"
# Hours of so many days are held against what was told of them at every look. Of those before, a look goes by the sums
# of days alone, and the daily one by every hour.
RECENT = 3 * DAY
AT_ONCE = 1000


@dataclass(frozen=True, slots=True, kw_only=True)
class Span:
    """A product is billed outside from an instant on, until another, if any (µs since the epoch)."""

    product_id: int
    begin_us: int
    end_us: int | None


def spans(session: Session) -> list[Span]:
    """The stretches of time in which products are billed outside."""
    found = session.scalars(select(OutsideProduct).order_by(OutsideProduct.since, OutsideProduct.id)).all()
    if not found:
        return []
    where = zone_of(session)
    return [
        Span(
            product_id=each.product_id,
            begin_us=day_start(each.since, where),
            end_us=None if each.until is None else day_start(each.until, where),
        )
        for each in found
    ]


def look(ctx: Context, everywhere: bool = False) -> datetime:
    """Make what is to be told of hours that are due, and have it handed on; when the next one will be due.
    `everywhere`: of every hour there is, not only of those where sums of days differ."""
    until = due_until(ctx.now_us)
    with ctx.transaction() as session:
        days = sorted(set(_days(session, until, everywhere)))
    for day in days:
        with ctx.transaction() as session:
            _tell(session, ctx, day, min(day + DAY, until))
    with ctx.transaction() as session:
        handing_on.see_to(session, ctx)
    return moment_of(next_due(ctx.now_us))


def recorded(session: Session, span: Span, begin_us: int, end_us: int) -> dict[UsageHour, Decimal]:
    """What is recorded of a product's hours that begin in [begin, end), whole ones, as far as they lie in a span."""
    first, last = max(begin_us, span.begin_us), end_us if span.end_us is None else min(end_us, span.end_us)
    if first >= last:
        return {}
    whole = -(-first // HOUR) * HOUR, last // HOUR * HOUR
    query = (
        select(HourlyUsage.hour_us, HourlyUsage.subscription_id, HourlyUsage.meter_id, func.sum(HourlyUsage.units))
        .where(HourlyUsage.hour_us >= whole[0], HourlyUsage.hour_us < whole[1])
        .where(HourlyUsage.subscription_id.in_(subscriptions_of(span.product_id)))
        .group_by(HourlyUsage.hour_us, HourlyUsage.subscription_id, HourlyUsage.meter_id)
    )
    found = {UsageHour(hour, of, meter): units for hour, of, meter, units in session.execute(query)}
    # Where a month begins within an hour of UTC, its part of that hour is read from the calls.
    ragged = [(first, min(whole[0], last))] if first % HOUR else []
    ragged += [(whole[1], last)] if last % HOUR and whole[1] > first else []
    for start, stop in ragged:
        mine = list(session.scalars(subscriptions_of(span.product_id)))
        for (of, meter), units in usage_queries.units_by_subscription(session, start, stop, mine).items():
            found[UsageHour(start // HOUR * HOUR, of, meter)] = units
    return found


def told(session: Session, product_id: int, begin_us: int, end_us: int) -> dict[UsageHour, Told]:
    """What was told of a product's hours that begin in [begin, end)."""
    query = (
        select(
            HandedUnits.hour_us,
            HandedUnits.subscription_id,
            HandedUnits.meter_id,
            func.max(HandedUnits.revision),
            func.sum(HandedUnits.units),
        )
        .where(HandedUnits.hour_us >= begin_us, HandedUnits.hour_us < end_us)
        .where(HandedUnits.subscription_id.in_(subscriptions_of(product_id)))
        .group_by(HandedUnits.hour_us, HandedUnits.subscription_id, HandedUnits.meter_id)
    )
    return {UsageHour(hour, of, meter): Told(last, units) for hour, of, meter, last, units in session.execute(query)}


def subscriptions_of(product_id: int) -> Select[int]:
    """The ids of a product's subscriptions."""
    return select(Subscription.id).join(Plan, Plan.id == Subscription.plan_id).where(Plan.product_id == product_id)


def _days(session: Session, until: int, everywhere: bool) -> Iterator[int]:
    """The days of UTC, by their beginnings, whose hours are to be looked at."""
    for span in spans(session):
        stop = until if span.end_us is None else min(until, span.end_us)
        first, last = span.begin_us // DAY * DAY, (stop - 1) // DAY * DAY
        if span.begin_us >= stop:
            continue
        every = range(first, last + DAY, DAY)
        recent = (until - RECENT) // DAY * DAY
        # A day that lies in a span in part has no sum of its own.
        yield from (day for day in every if everywhere or day >= recent or day in (first, last))
        if not everywhere:
            yield from _differing(session, span, first + DAY, min(last, recent))


def _differing(session: Session, span: Span, begin_us: int, end_us: int) -> Iterator[int]:
    """The whole days of which something else is recorded than was told."""
    day = HandedUnits.hour_us - HandedUnits.hour_us % DAY
    sums: list[dict[tuple[int, int, int], Decimal]] = []
    for at, of, meter, units in (
        (DailyUsage.day_us, DailyUsage.subscription_id, DailyUsage.meter_id, DailyUsage.units),
        (day, HandedUnits.subscription_id, HandedUnits.meter_id, HandedUnits.units),
    ):
        query = select(at, of, meter, func.sum(units)).where(at >= begin_us, at < end_us)
        query = query.where(of.in_(subscriptions_of(span.product_id))).group_by(at, of, meter)
        sums.append({(day_us, s, m): amount for day_us, s, m, amount in session.execute(query) if amount})
    for key in sums[0].keys() | sums[1].keys():
        if sums[0].get(key) != sums[1].get(key):
            yield key[0]


def _tell(session: Session, ctx: Context, begin_us: int, end_us: int) -> None:
    """Make what is to be told of the hours that begin in [begin, end)."""
    found: list[Revision] = []
    known: dict[int, dict[UsageHour, Told]] = {}
    there: dict[int, dict[UsageHour, Decimal]] = {}
    for span in spans(session):
        there.setdefault(span.product_id, {}).update(recorded(session, span, begin_us, end_us))
        known[span.product_id] = told(session, span.product_id, begin_us, end_us)
    for product, units in there.items():
        found += revisions(units, known[product])
    standing = _standing(session, [(each.of.subscription_id, each.of.hour_us + HOUR) for each in found])
    rows = [
        {
            "hour_us": each.of.hour_us,
            "subscription_id": each.of.subscription_id,
            "meter_id": each.of.meter_id,
            "revision": each.number,
            "units": each.units,
            "plan_id": plan,
            "trial": trial,
            "state": "waiting",
            "made_at": ctx.now,
            "refused_why": "",
            "anew": False,
        }
        for each, (plan, trial) in zip(found, standing, strict=True)
    ]
    # One that somebody else has told meanwhile stands; what is missing then is found by the next look.
    for first in range(0, len(rows), AT_ONCE):
        session.execute(insert(HandedUnits).prefix_with("IGNORE"), rows[first : first + AT_ONCE])


def _standing(session: Session, wanted: Sequence[tuple[int, int]]) -> list[tuple[int, bool]]:
    """The plan that each subscription was on last before an instant, and whether that was a trial."""
    query = select(Subscription).where(Subscription.id.in_({of for of, _ in wanted}))
    found = {s.id: s for s in session.scalars(query.options(selectinload(Subscription.stays)))}
    courses = {of: rating_cases.course_of(subscription).stays for of, subscription in found.items()}
    revisions_of = {stay.revision_id for timeline in courses.values() for stay in timeline}
    of_plan = select(PlanRevision.id, PlanRevision.plan_id).where(PlanRevision.id.in_(revisions_of))
    plans = dict(session.execute(of_plan).all())
    last = [stays.last_begun(courses[of], at_us - 1) for of, at_us in wanted]
    return [(plans[stay.revision_id], stay.trial) for stay in last]
