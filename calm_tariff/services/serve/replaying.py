"""What is recorded of calls, read back so that counts can be restored from it and calls replayed."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from heapq import heappop, heappush

from sqlalchemy import select
from sqlalchemy.orm import selectinload

from calm_tariff.core.periods import SECOND, instant_of
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.applications import ApiKey
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from calm_tariff.store.serve import call_queries, quota_queries
from calm_tariff.store.serve.usage import Call, QuotaCount

# How far the order in which calls came and that in which they were decided may lie apart: a call waits no longer for
# its count.
APART_US = 10 * SECOND


def open_quotas(ctx: Context, now_us: int) -> list[QuotaCount]:
    """What quotas have let in, in the windows that are open at an instant."""
    with ctx.transaction() as session:
        return list(quota_queries.open_at(session, now_us))


def calls_since(ctx: Context, from_us: int, at_once: int = 20_000) -> Iterator[Call]:
    """Let-through calls from an instant on in the order they were decided, from which rates and windows are rebuilt.

    Read in the order they came, which the order of decisions follows within `APART_US`.
    """
    waiting: list[tuple[int, int, str, Call]] = []
    with ctx.transaction() as session:
        place = (from_us, "")
        while chunk := call_queries.let_through_after(session, place, at_once):
            for call in chunk:
                heappush(waiting, (call.decided_us or call.at_us, call.decided_order, call.call_id, call))
            place = (chunk[-1].at_us, chunk[-1].call_id)
            session.expunge_all()  # what was replayed is not kept
            while waiting and waiting[0][0] < place[0] - APART_US:
                yield heappop(waiting)[3]
    while waiting:
        yield heappop(waiting)[3]


@dataclass(frozen=True, slots=True, kw_only=True)
class SubscriptionHistory:
    """A subscription with all its stays, as (id, revision id, terms, start µs), and its keys."""

    subscription_id: int
    application_id: int
    application: str
    consumer_id: int
    consumer: str
    product_id: int
    plan_id: int
    started_us: int
    stays: tuple[tuple[int, int, PlanTerms, int], ...]
    keys: tuple[int, ...]


def every_stay(ctx: Context) -> list[SubscriptionHistory]:
    """All subscriptions with their whole history, for replaying calls against the terms of the time."""
    with ctx.transaction() as session:
        query = select(Subscription).options(selectinload(Subscription.stays)).order_by(Subscription.id)
        keys: dict[int, list[int]] = {}
        for application, key in session.execute(select(ApiKey.application_id, ApiKey.id).order_by(ApiKey.id)):
            keys.setdefault(application, []).append(key)
        return [
            SubscriptionHistory(
                subscription_id=s.id,
                application_id=s.application_id,
                application=s.application.name,
                consumer_id=s.application.consumer_id,
                consumer=s.application.consumer.name,
                product_id=s.plan.product_id,
                plan_id=s.plan_id,
                started_us=instant_of(s.started_at),
                stays=tuple(_stay(stay) for stay in s.stays),
                keys=tuple(keys.get(s.application_id, ())),
            )
            for s in session.scalars(query)
        ]


def _stay(stay: Stay) -> tuple[int, int, PlanTerms, int]:
    return stay.id, stay.revision_id, read(PlanTerms, stay.revision.terms), instant_of(stay.start_at)
