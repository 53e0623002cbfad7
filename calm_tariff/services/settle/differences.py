"""What a move of a subscription comes to, worked out before it is made: the running month with it and without it, by
the same rating case that its invoice is made from, and every month after."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import moves as rules
from calm_tariff.core import stays
from calm_tariff.core.counts import shape
from calm_tariff.core.lifecycles import UNPAID
from calm_tariff.core.limits import Quota
from calm_tariff.core.periods import Period, day_start, local_day, moment_of, month_of
from calm_tariff.core.rating import RatingCase, Segment, rate
from calm_tariff.core.sentences import consequences_in_words, line_in_words, spent_in_words
from calm_tariff.services.admit import moves
from calm_tariff.services.admit.desk.asking import MoveAsked, plan_to_move_to
from calm_tariff.services.admit.moves import Wanted
from calm_tariff.services.base.context import Context, provider_of, zone_of
from calm_tariff.services.serve import standing
from calm_tariff.services.settle import rating_cases
from calm_tariff.services.settle.rating_cases import Course
from calm_tariff.store.admit import merged
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan
from calm_tariff.store.serve import quota_queries
from calm_tariff.store.settle.money_documents import Invoice


@dataclass(frozen=True, slots=True, kw_only=True)
class DueLine:
    """A line of the month: of which plan, for how many days of it, the rule in words, and what it comes to."""

    plan: str
    trial: bool
    label: str
    rule: str
    days: int
    quantity: Decimal | None
    amount: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class Due:
    """What a subscription owes for the running month by what is recorded now, before tax, line by line; and what the
    consumer's whole invoice comes to then, with tax."""

    lines: list[DueLine]
    subtotal: Decimal
    invoice_total: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class Difference:
    """A move worked out: from when on it is in force; the running month, of so many days, without it and with it, and
    what it is `more` with it, before tax; a whole month before and afterwards without a call, before tax; what it
    brings with it and what would be refused at once, in words; and the numbers of issued invoices that are not paid.
    `undoes`: what was to come is taken back with it."""

    at: datetime
    month_days: int
    currency: str
    without: Due
    after: Due
    more: Decimal
    month_before: Decimal
    month_after: Decimal
    consequences: list[str]
    refused: list[str]
    open_invoices: list[str]
    undoes: bool


def difference(ctx: Context, subscription_id: int, asked: MoveAsked) -> Difference:
    """Work out a move of one's own subscription. Raises as the move does (services.admit.moves)."""
    with ctx.reading() as session:
        of = moves.own(session, ctx, subscription_id)
        plan = plan_to_move_to(session, ctx, of, asked) if asked.kind == "change plan" else None
        result = moves.outcome(session, ctx, of, Wanted(kind=asked.kind, when=asked.when, plan=plan))
        course = rating_cases.course_of(of)
        pauses = course.pauses
        if asked.when == "now":
            pauses = rules.paused(pauses, asked.kind, ctx.now_us)
        moved = Course(stays=result.stays, pauses=pauses)
        period = month_of(local_day(ctx.now_us, zone_of(session)))
        stay = stays.last_begun(course.stays, ctx.now_us)
        follows = stays.after(course.stays, stay, ctx.now_us) if stay.trial else stay
        before, after = follows.revision_id if follows else None, plan.revisions[-1].id if plan else None
        if asked.kind == "resume":
            before, after = None, before
        elif of.state == "paused":
            before = after = None
        brings = consequences_in_words(
            asked.kind,
            plan.name if plan else None,
            None if asked.when == "now" else local_day(result.at_us - 1, zone_of(session)),
            trial=stay.trial,
            anew=of.plan.product.moves_anew,
        )
        as_it_is, with_it = _due(session, period, of, course), _due(session, period, of, moved)
        return Difference(
            at=moment_of(result.at_us),
            month_days=period.days,
            currency=provider_of(session).currency,
            without=as_it_is,
            after=with_it,
            more=with_it.subtotal - as_it_is.subtotal,
            month_before=_month(session, period, before),
            month_after=_month(session, period, after),
            consequences=brings,
            refused=_refused(session, ctx, of, plan) if plan and asked.when == "now" else [],
            open_invoices=_open_invoices(session, of) if asked.kind == "end" else [],
            undoes=of.coming is not None and asked.kind in ("change plan", "end"),
        )


def _due(session: Session, period: Period, of: Subscription, course: Course) -> Due:
    consumer = of.application.consumer_id
    (case,) = rating_cases.cases(session, period, [consumer], instead={of.id: course}) or (None,)
    if case is None:
        return Due(lines=[], subtotal=Decimal(0), invoice_total=Decimal(0))
    charge = rate(case.case)
    meters = dict(session.execute(select(Meter.key, Meter.name)).all())
    lines: list[DueLine] = []
    for place, line in enumerate(charge.lines):
        origin, segment = case.segments[line.segment], case.case.segments[line.segment]
        if origin.subscription_id != of.id:
            continue
        same = [
            n
            for n, x in enumerate(charge.lines)
            if (x.segment, x.kind, x.meter) == (line.segment, line.kind, line.meter)
        ]
        rule = line_in_words(segment.plan, line.kind, line.meter, same.index(place), case.case.currency)
        lines.append(
            DueLine(
                plan=session.get_one(Plan, origin.plan_id).name,
                trial=segment.trial,
                label=meters[line.meter] if line.meter else line.kind.capitalize(),
                rule=rule,
                days=line.days,
                quantity=line.quantity,
                amount=line.amount,
            )
        )
    return Due(lines=lines, subtotal=sum((x.amount for x in lines), Decimal(0)), invoice_total=charge.total)


def _month(session: Session, period: Period, revision_id: int | None) -> Decimal:
    """What a whole month under a revision comes to without a call, before tax; nothing where nothing holds."""
    if revision_id is None:
        return Decimal(0)
    where = zone_of(session)
    segment = Segment(
        start=moment_of(day_start(period.start, where), where),
        end=None,
        plan=moves.terms_of(session, revision_id).pricing,
    )
    provider = provider_of(session)
    return rate(
        RatingCase(
            currency=provider.currency,
            time_zone=provider.time_zone,
            period=period,
            tax_percent=Decimal(0),
            segments=(segment,),
        )
    ).subtotal


def _refused(session: Session, ctx: Context, of: Subscription, plan: Plan) -> list[str]:
    """What of a plan's allowances is used already, so that calls would be refused at once, in words."""
    if plan.product.moves_anew:
        return []
    known = [q for q in standing.quotas(session, ctx.now, of.application.consumer_id) if q.subscription_id == of.id]
    counts = {
        (k.scope, k.subject): k.units for k in quota_queries.open_at(session, ctx.now_us, {q.scope for q in known})
    }
    meters = dict(session.execute(select(Meter.key, Meter.name)).all())
    found = []
    for quota in moves.terms_of(session, plan.revisions[-1].id).limits:
        if not isinstance(quota, Quota) or quota.when_spent != "refuse":
            continue
        goes_on = next((q for q in known if shape(q.quota, q.started_us) == shape(quota, q.started_us)), None)
        if goes_on is not None:
            subjects = {"subscription": of.id, "application": of.application_id, "consumer": goes_on.consumer_id}
            used = counts.get((goes_on.scope, str(subjects.get(quota.counted_per, ""))), Decimal(0))
            if used >= quota.units:
                found.append(spent_in_words(quota, used, meters))
    return found


def _open_invoices(session: Session, of: Subscription) -> list[str]:
    query = select(Invoice.number).where(
        Invoice.consumer_id.in_(merged.with_merged(session, of.application.consumer_id)),
        Invoice.state.in_(UNPAID),
    )
    return [number for number in session.scalars(query.order_by(Invoice.number)) if number]
