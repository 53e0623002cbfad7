"""What lets an application's calls through: the stays of its subscriptions, and the histories they make up."""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Bundle, Session

from calm_tariff.core.counts import Before, History, Override
from calm_tariff.core.periods import instant_if_any, instant_of
from calm_tariff.core.stays import Stay as StayRule
from calm_tariff.core.stays import TrialUnits
from calm_tariff.core.terms import PlanTerms, free_units
from calm_tariff.store.admit import merged
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from calm_tariff.store.compose.apis import ApiVersion, Operation
from calm_tariff.store.compose.products import Plan, PlanRevision, Product

# Applications that stand for callers without a credential: of products sold open, and of the sandbox.
STRANGER, TRYING = 0, -1


@dataclass(frozen=True, slots=True)
class Grant:
    """A stay of a subscription, past, present or to come: it lets an application's calls through from `start_us`
    until `end_us`. `started_us` is when the subscription began; `free` what ends a trial early; `due_us` marks one that
    follows such a trial; `before` are those whose its application was."""

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
    before: tuple[Before, ...] = ()


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
    before = merged.owners_before(session)
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
                before=before.get(named.application_id, ()),
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
            before=first.before,
        )


def freed(grant: Grant, terms: Mapping[int, PlanTerms]) -> Grant:
    """A trial with the units that end it."""
    free = free_units(terms[grant.revision_id]) if grant.trial else None
    return grant if free is None else replace(grant, free=free)


def of_strangers(session: Session) -> Iterator[Grant]:
    """What lets calls without a credential through: the newest terms of the plan under which a product is sold open.
    There is no subscription, and nothing is charged."""
    newest = select(PlanRevision.plan_id, func.max(PlanRevision.number).label("number")).group_by(PlanRevision.plan_id)
    of = newest.subquery()
    query = (
        select(Product.id, Product.name, Plan.id, Plan.name, PlanRevision.id)
        .join(Plan, Plan.id == Product.strangers_plan_id)
        .join(of, of.c.plan_id == Plan.id)
        .join(PlanRevision, (PlanRevision.plan_id == Plan.id) & (PlanRevision.number == of.c.number))
        .where(Plan.state != "withdrawn")
        .order_by(Product.id)
    )
    for product, name, plan, plan_name, revision in session.execute(query):
        yield _nobodys(STRANGER, (product, name), (plan, plan_name), revision)


def of_trying(session: Session) -> Iterator[tuple[Grant, int, frozenset[int]]]:
    """What lets calls without a credential into the sandbox: for each API version with operations that anyone may try,
    how many calls an hour, and these operations. Of what is no product's and no plan's, the ids are below 0."""
    query = (
        select(ApiVersion.id, ApiVersion.tries_an_hour, Operation.id)
        .join(Operation, Operation.api_version_id == ApiVersion.id)
        .where(Operation.tried_by_anyone, Operation.retired_at.is_(None))
        .order_by(ApiVersion.id)
    )
    found: dict[tuple[int, int], set[int]] = {}
    for version, calls, operation in session.execute(query):
        found.setdefault((version, calls), set()).add(operation)
    for (version, calls), operations in found.items():
        yield _nobodys(TRYING, (-version, ""), (-version, ""), -version), calls, frozenset(operations)


def _nobodys(application: int, product: tuple[int, str], plan: tuple[int, str], revision: int) -> Grant:
    return Grant(0, application, 0, *product, *plan, revision, stay_id=0, started_us=0)
