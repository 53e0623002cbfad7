"""What lets an application's calls through: the stays of its subscriptions, and the histories they make up."""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Bundle, Session

from calm_tariff.core.counts import History, Override
from calm_tariff.core.periods import instant_if_any, instant_of
from calm_tariff.core.stays import Stay as StayRule
from calm_tariff.core.stays import TrialUnits
from calm_tariff.core.terms import PlanTerms, free_units
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from calm_tariff.store.compose.products import Plan, PlanRevision, Product


@dataclass(frozen=True, slots=True)
class Grant:
    """A stay of a subscription, past, present or to come: it lets an application's calls through from `start_us`
    until `end_us`. `started_us` is when the subscription began; `free` what ends a trial early; `due_us` marks one that
    follows such a trial."""

    subscription_id: int
    application_id: int
    consumer_id: int
    product_id: int
    product: str
    plan_id: int
    plan: str
    revision_id: int
    stay_id: int
    started_us: int
    start_us: int = 0
    end_us: int | None = None
    trial: bool = False
    free: TrialUnits | None = None
    due_us: int | None = None


def of_all(session: Session, consumer_id: int | None = None) -> Iterator[Grant]:
    """Every stay of every subscription, or of one consumer's: past ones, because counts are named by them; those to
    come, because nobody may be awake when they begin."""
    who: Bundle[Any] = Bundle(
        "who",
        Subscription.id.label("subscription_id"),
        Subscription.application_id,
        Application.consumer_id,
        Product.id.label("product_id"),
        Product.name.label("product"),
        Plan.id.label("plan_id"),
        Plan.name.label("plan"),
        Stay.revision_id,
        Stay.id.label("stay_id"),
    )
    query = (
        select(who, Subscription.started_at, Subscription.ended_at, Stay.start_at, Stay.end_at, Stay.trial, Stay.due_at)
        .join(Stay, Stay.subscription_id == Subscription.id)
        .join(Application, Application.id == Subscription.application_id)
        .join(PlanRevision, PlanRevision.id == Stay.revision_id)
        .join(Plan, Plan.id == PlanRevision.plan_id)
        .join(Product, Product.id == Plan.product_id)
        .order_by(Subscription.id, Stay.start_at, Stay.id)
    )
    if consumer_id is not None:
        query = query.where(Application.consumer_id == consumer_id)
    for named, started, ended, start, end, trial, due in session.execute(query):
        until = min((moment for moment in (ended, end) if moment), default=None)
        if until is None or start < until or (due is not None and start == until):
            yield Grant(
                **named._asdict(),
                started_us=instant_of(started),
                start_us=instant_of(start),
                end_us=instant_if_any(until),
                trial=trial,
                due_us=instant_if_any(due),
            )


def histories(
    of: Iterable[Grant], overrides: Mapping[int, tuple[Override, ...]], anew: Container[int]
) -> Iterator[History]:
    """Grants as histories of their subscriptions; `anew` are the products whose allowances start anew over a move."""
    by_subscription: dict[int, list[Grant]] = {}
    for grant in of:
        by_subscription.setdefault(grant.subscription_id, []).append(grant)
    for subscription, own in by_subscription.items():
        first = own[0]
        spans = (StayRule(id=g.stay_id, revision_id=g.revision_id, start_us=g.start_us, end_us=g.end_us) for g in own)
        yield History(
            subscription_id=subscription,
            application_id=first.application_id,
            consumer_id=first.consumer_id,
            started_us=first.started_us,
            stays=tuple(spans),
            overrides=overrides.get(subscription, ()),
            anew=first.product_id in anew,
        )


def freed(grant: Grant, terms: Mapping[int, PlanTerms]) -> Grant:
    """A trial with the units that end it."""
    free = free_units(terms[grant.revision_id]) if grant.trial else None
    return grant if free is None else replace(grant, free=free)
