"""What the running month comes to: by what is recorded now, as its invoice would have it; and by its end, should use go
on as it has (docs/arithmetic.md, section 4)."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal
from fractions import Fraction

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.forecast import LOOK_BACK_WEEKS, WEEK_HOURS, expected_between
from calm_tariff.core.lifecycles import CALLING
from calm_tariff.core.periods import HOUR, Period, day_start, instant_of, local_day, month_of
from calm_tariff.core.rating import Charge, Line, RatingCase, rate
from calm_tariff.core.sentences import line_in_words
from calm_tariff.services.base.context import Context, provider_of, zone_of
from calm_tariff.services.settle import rating_cases
from calm_tariff.services.settle.rating_cases import ConsumerCase
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan, Product
from calm_tariff.store.serve import usage_queries
from calm_tariff.store.settle.handoff import plans_billed_outside


@dataclass(frozen=True, slots=True, kw_only=True)
class RunningLine:
    """A line of the month's invoice as it is now, and at the month's end; None where it is not there, or has no
    quantity. `rule` is the rule it follows, in words."""

    subscription_id: int
    application: str
    plan: str
    trial: bool
    label: str
    rule: str
    quantity: Decimal | None
    amount: Decimal | None
    quantity_then: Decimal | None
    amount_then: Decimal | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Sums:
    """What all lines come to, before tax and with it."""

    subtotal: Decimal
    tax: Decimal
    total: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class RunningMonth:
    """The running month, its days so far and all of them, and what it comes to `now` and `then`, at its end. Use of the
    products that are `billed_outside` is not in it."""

    month: date
    days_so_far: int
    days: int
    currency: str
    lines: list[RunningLine]
    billed_outside: list[str]
    now: Sums
    then: Sums


def running(ctx: Context) -> RunningMonth:
    """The signed-in consumer's running month."""
    owner = ctx.actor.own_consumer
    with ctx.reading() as session:
        today = local_day(ctx.now_us, zone_of(session))
        month = month_of(today)
        found = rating_cases.cases(session, month, [owner])
        case = found[0] if found else None
        now = rate(case.case) if case else None
        then = rate(_at_end(session, ctx, month, case)) if case else None
        return RunningMonth(
            month=month.start,
            days_so_far=(today - month.start).days + 1,
            days=month.days,
            currency=case.case.currency if case else provider_of(session).currency,
            lines=list(_lines(session, case, now, then)) if case and now and then else [],
            billed_outside=_billed_outside(session, month, owner),
            now=_sums(now),
            then=_sums(then),
        )


def charge_of(session: Session, ctx: Context, consumer_id: int) -> Decimal:
    """What a consumer's running month comes to so far, before tax."""
    month = month_of(local_day(ctx.now_us, zone_of(session)))
    return sum((rate(c.case).subtotal for c in rating_cases.cases(session, month, [consumer_id])), Decimal("0.00"))


def _billed_outside(session: Session, month: Period, owner: int) -> list[str]:
    """The products of a consumer's subscriptions that are billed outside in a month, by name."""
    query = (
        select(Product.name)
        .join(Plan, Plan.product_id == Product.id)
        .join(Subscription, Subscription.plan_id == Plan.id)
        .join(Application, Application.id == Subscription.application_id)
        .where(Application.consumer_id == owner, Subscription.state != "ended")
        .where(Plan.id.in_(plans_billed_outside(month.start)))
    )
    return list(session.scalars(query.distinct().order_by(Product.name)))


def _sums(charge: Charge | None) -> Sums:
    nothing = Decimal("0.00")
    if charge is None:
        return Sums(subtotal=nothing, tax=nothing, total=nothing)
    return Sums(subtotal=charge.subtotal, tax=charge.tax, total=charge.total)


def _at_end(session: Session, ctx: Context, month: Period, of: ConsumerCase) -> RatingCase:
    """The month's case with the use that is expected in what remains of it, in whole units: as long as a subscription
    lets calls through, and under the stay that will be in force."""
    where = zone_of(session)
    window = day_start(month.start, where), day_start(month.end, where)
    subscriptions = {origin.subscription_id for origin in of.segments}
    kept = session.execute(select(Subscription.id, Subscription.state).where(Subscription.id.in_(subscriptions)))
    calling = {identifier for identifier, state in kept if state in CALLING}
    history = ctx.now_us - (LOOK_BACK_WEEKS + 1) * WEEK_HOURS * HOUR
    hourly = usage_queries.hourly_units_of_all(session, history, calling)
    firsts = usage_queries.first_hours(session, calling)
    used = usage_queries.units_by_subscription(session, *window, list(calling))
    keys = dict(session.execute(select(Meter.id, Meter.key)).all())
    segments = list(of.case.segments)
    for (subscription, meter), first in firsts.items():
        expected = expected_between(
            used.get((subscription, meter), Decimal(0)),
            window,
            ctx.now_us,
            hourly.get((subscription, meter), {}),
            first,
        )
        for place, origin in enumerate(of.segments):
            if origin.subscription_id == subscription:
                more = _whole(expected(instant_of(origin.start), instant_of(origin.end)))
                usage = dict(segments[place].usage)
                usage[keys[meter]] = usage.get(keys[meter], Decimal(0)) + more
                segments[place] = replace(segments[place], usage=usage)
    return replace(of.case, segments=tuple(segments))


def _whole(units: Fraction) -> Decimal:
    return Decimal((units + Fraction(1, 2)) // 1)


_ORDER = ("setup", "fee", "usage", "discount", "minimum", "cap")
_Place = tuple[int, str, str | None, int]


def _lines(session: Session, of: ConsumerCase, now: Charge, then: Charge) -> Iterator[RunningLine]:
    """The lines of both charges in the order of an invoice, each beside its own of the other: a minimum or a cap may be
    in one of them alone."""
    meters = dict(session.execute(select(Meter.key, Meter.name)).all())
    before, after = _placed(now), _placed(then)
    places = sorted(dict.fromkeys([*before, *after]), key=lambda place: (place[0], _ORDER.index(place[1])))
    for place in places:
        first, last = before.get(place), after.get(place)
        number, kind, meter, nth = place
        origin, segment = of.segments[number], of.case.segments[number]
        subscription, plan = (
            session.get_one(Subscription, origin.subscription_id),
            session.get_one(Plan, origin.plan_id),
        )
        yield RunningLine(
            subscription_id=subscription.id,
            application=subscription.application.name,
            plan=f"{plan.product.name} · {plan.name}",
            trial=segment.trial,
            label=meters[meter] if meter else kind.capitalize(),
            rule=line_in_words(segment.plan, kind, meter, nth, of.case.currency),
            quantity=first.quantity if first else None,
            amount=first.amount if first else None,
            quantity_then=last.quantity if last else None,
            amount_then=last.amount if last else None,
        )


def _placed(charge: Charge) -> dict[_Place, Line]:
    """Lines by segment, kind, meter and place among those that share all of these."""
    found: dict[_Place, Line] = {}
    for line in charge.lines:
        nth = sum(place[:3] == (line.segment, line.kind, line.meter) for place in found)
        found[line.segment, line.kind, line.meter, nth] = line
    return found
