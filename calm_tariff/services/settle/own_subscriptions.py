"""One's own subscription in full: its plan, what is to come, what its trial has left, and what can be done with it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import moves as rules
from calm_tariff.core import stays
from calm_tariff.core.lifecycles import UNDECIDED
from calm_tariff.core.moves import Standing
from calm_tariff.core.periods import local_day, moment_of
from calm_tariff.core.sentences import way_in_words
from calm_tariff.core.terms import free_units
from calm_tariff.services.admit import moves, paying
from calm_tariff.services.admit.desk import routing
from calm_tariff.services.admit.portals import storefront
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan
from calm_tariff.store.serve import usage_queries


@dataclass(frozen=True, slots=True, kw_only=True)
class TrialView:
    """A trial that runs: until when, how many local days are left with today, the units left of the meter that ends it
    early, where one does, and the plan that follows it; None where nothing does."""

    ends_at: datetime
    days_left: int
    units_left: Decimal | None
    units: Decimal | None
    meter: str | None
    follows: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Coming:
    """A move that is to come: `plan` is the one it is to, None where it ends."""

    at: datetime
    plan: str | None
    made_by: str


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanChoice:
    """A plan that it can move to. `charges`: it can come to more than nothing. `decided` says in words how a move to it
    is decided, where somebody is asked."""

    plan_id: int
    name: str
    charges: bool
    decided: str


@dataclass(frozen=True, slots=True, kw_only=True)
class StayView:
    """A stretch under a revision of a plan, by its number. `new_terms`: under other terms of the plan of the stretch
    before."""

    plan: str
    revision: int
    new_terms: bool
    start_at: datetime
    end_at: datetime | None
    trial: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class PauseView:
    """A stretch in which it lets no calls through."""

    start_at: datetime
    end_at: datetime | None


@dataclass(frozen=True, slots=True, kw_only=True)
class SubscriptionView:
    """A subscription. `later_at` is when a move for later is in force, `end_at` from when it can be over at the
    earliest, `end_later_at` when it is over with the month; `waiting` the plan of a request that is not decided yet.
    None of the moments is there once it has ended."""

    id: int
    application_id: int
    application: str
    product: str
    slug: str
    plan_id: int
    plan: str
    state: str
    since: datetime
    ended_at: datetime | None
    notice_days: int
    later_at: datetime | None
    end_at: datetime | None
    end_later_at: datetime | None
    trial: TrialView | None
    coming: Coming | None
    waiting: str | None
    choices: list[PlanChoice]
    stays: list[StayView]
    pauses: list[PauseView]


@dataclass(frozen=True, slots=True, kw_only=True)
class CourseView:
    """A subscription's course: under which plans it was and is, and what is to come."""

    subscription_id: int
    application: str
    offer: str
    state: str
    since: datetime
    ended_at: datetime | None
    stays: list[StayView]
    pauses: list[PauseView]
    coming: Coming | None


def courses(session: Session, consumer_id: int) -> list[CourseView]:
    """The courses of all a consumer's subscriptions: those that have not ended first, then the latest."""
    query = select(Subscription).join(Application).where(Application.consumer_id == consumer_id)
    found = session.scalars(query.order_by(Subscription.ended_at.is_not(None), Subscription.id.desc())).all()
    return [
        CourseView(
            subscription_id=of.id,
            application=of.application.name,
            offer=f"{of.plan.product.name} · {of.plan.name}",
            state=of.state,
            since=of.started_at,
            ended_at=of.ended_at,
            stays=_stays(_lasting(of)),
            pauses=_pauses(of),
            coming=_coming(of),
        )
        for of in found
    ]


def one(ctx: Context, subscription_id: int) -> SubscriptionView:
    """One's own subscription. Raises `NotFound` for another's, just as for none."""
    with ctx.reading() as session:
        return _view(session, ctx, moves.own(session, ctx, subscription_id))


def _view(session: Session, ctx: Context, of: Subscription) -> SubscriptionView:
    here = moves.standing_of(session, ctx, of)
    product = of.plan.product
    lives = of.state != "ended"
    plans = [p for p in product.plans if storefront.may_have(session, ctx, p)] if lives else []
    chosen = [p for p in plans if p.id != of.plan_id]
    if here.trial_end_us is not None and of.plan not in chosen:
        chosen = [of.plan, *chosen]  # it may follow its own trial
    return SubscriptionView(
        id=of.id,
        application_id=of.application_id,
        application=of.application.name,
        product=product.name,
        slug=product.slug,
        plan_id=of.plan_id,
        plan=of.plan.name,
        state=of.state,
        since=of.started_at,
        ended_at=of.ended_at,
        notice_days=here.notice_days,
        later_at=moment_of(rules.instant(here, "change plan", "later")) if lives else None,
        end_at=moment_of(rules.earliest_end(here)) if lives else None,
        end_later_at=moment_of(rules.instant(here, "end", "later")) if lives else None,
        trial=_trial(session, ctx, of, here),
        coming=_coming(of),
        waiting=_waiting(session, of),
        choices=[_choice(session, ctx, of, p) for p in chosen],
        stays=_stays(_lasting(of)),
        pauses=_pauses(of),
    )


def _choice(session: Session, ctx: Context, of: Subscription, plan: Plan) -> PlanChoice:
    way = routing.routed(session, ctx, plan, of.application).way
    decided = "" if plan.id == of.plan_id or way.at_once else way_in_words(way)
    return PlanChoice(plan_id=plan.id, name=plan.name, charges=paying.charges(plan), decided=decided)


def _lasting(of: Subscription) -> list[Stay]:
    return [stay for stay in of.stays if stay.start_at != stay.end_at]


def _pauses(of: Subscription) -> list[PauseView]:
    return [PauseView(start_at=pause.start_at, end_at=pause.end_at) for pause in of.pauses]


def _stays(of: list[Stay]) -> list[StayView]:
    plans = [s.revision.plan_id for s in of]
    trials = [s.trial for s in of]
    return [
        StayView(
            plan=s.revision.plan.name,
            revision=s.revision.number,
            new_terms=n > 0 and (plans[n - 1], trials[n - 1]) == (plans[n], s.trial),
            start_at=s.start_at,
            end_at=s.end_at,
            trial=s.trial,
        )
        for n, s in enumerate(of)
    ]


def _trial(session: Session, ctx: Context, of: Subscription, here: Standing) -> TrialView | None:
    stay = stays.in_force(here.stays, ctx.now_us)
    if stay is None or not stay.trial or stay.end_us is None:
        return None
    free = free_units(moves.terms_of(session, stay.revision_id))
    meter = session.scalar(select(Meter).where(Meter.key == free.meter)) if free else None
    left = None
    if free is not None and meter is not None:
        used = usage_queries.units_by_stay(session, stay.start_us, ctx.now_us, [of.id])
        left = max(Decimal(free.units) - used.get((stay.id, meter.id), Decimal(0)), Decimal(0))
    follows = {s.id for s in stays.following(here.stays, stay)}
    plan = next((s.revision.plan.name for s in reversed(of.stays) if s.id in follows), None)
    return TrialView(
        ends_at=moment_of(stay.end_us),
        days_left=(local_day(stay.end_us - 1, here.where) - here.today).days + 1,
        units_left=left,
        units=Decimal(free.units) if free else None,
        meter=meter.name if meter else None,
        follows=plan,
    )


def _coming(of: Subscription) -> Coming | None:
    if of.coming is None:
        return None
    plan = of.coming.plan
    return Coming(at=of.coming.at, plan=plan.name if plan else None, made_by=of.coming.made_by)


def _waiting(session: Session, of: Subscription) -> str | None:
    query = (
        select(Plan.name)
        .join(AccessRequest, AccessRequest.plan_id == Plan.id)
        .where(AccessRequest.moves_id == of.id, AccessRequest.state.in_(UNDECIDED))
    )
    return session.scalar(query)
