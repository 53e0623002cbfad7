"""Consumers as the provider's staff see them: everything of one on one page."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from sqlalchemy import select

from calm_tariff.core.errors import NotFound
from calm_tariff.core.lifecycles import CALLING
from calm_tariff.core.periods import local_day, month_of
from calm_tariff.core.rating import rate
from calm_tariff.services import allowances, invoices, rating_cases
from calm_tariff.services.allowances import Gauge
from calm_tariff.services.applications import ApplicationView, of_consumer
from calm_tariff.services.context import ROLES, Context, provider_of, zone_of
from calm_tariff.services.invoices import InvoiceSummary
from calm_tariff.store import usage_queries
from calm_tariff.store.admission import Application, Subscription
from calm_tariff.store.people import Consumer, Member

DAY = 86_400_000_000


@dataclass(frozen=True, slots=True)
class ConsumerLine:
    """A line of the list: calls are those of the last 28 days."""

    id: int
    name: str
    since: datetime
    plans: list[str]
    served: int
    refused: int


@dataclass(frozen=True, slots=True)
class MemberView:
    """Somebody of a consumer."""

    name: str
    email: str
    role: str


@dataclass(frozen=True, slots=True)
class ConsumerView:
    """One consumer. `running` is this period's charge so far, before tax."""

    line: ConsumerLine
    members: list[MemberView]
    applications: list[ApplicationView]
    gauges: list[Gauge]
    invoices: list[InvoiceSummary]
    currency: str
    running: Decimal


def everyone(ctx: Context) -> list[ConsumerLine]:
    """All consumers by name."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        month = usage_queries.verdicts_between(session, ctx.now_us - 28 * DAY, ctx.now_us)
        plans: dict[int, list[str]] = {}
        query = (
            select(Application.consumer_id, Subscription)
            .join(Application, Application.id == Subscription.application_id)
            .where(Subscription.state.in_(CALLING))
            .order_by(Subscription.id)
        )
        for consumer_id, subscription in session.execute(query):
            plans.setdefault(consumer_id, []).append(f"{subscription.plan.product.name} · {subscription.plan.name}")
        return [
            _line(c, plans.get(c.id, []), month.get(c.id, {}))
            for c in session.scalars(select(Consumer).order_by(Consumer.name))
        ]


def one(ctx: Context, consumer_id: int) -> ConsumerView:
    """One consumer with everything of it. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        consumer = session.get(Consumer, consumer_id)
        if consumer is None:
            raise NotFound("there is no such consumer", str(consumer_id))
        month = usage_queries.verdicts_between(session, ctx.now_us - 28 * DAY, ctx.now_us)
        applications = of_consumer(session, consumer_id, ctx.now)
        plans = [f"{p.product} · {p.plan}" for a in applications for p in a.plans if p.state in CALLING]
        members = session.scalars(select(Member).filter_by(consumer_id=consumer_id).order_by(Member.id))
        period = month_of(local_day(ctx.now_us, zone_of(session)))
        running = [rate(c.case).subtotal for c in rating_cases.cases(session, period, [consumer_id])]
        return ConsumerView(
            _line(consumer, plans, month.get(consumer_id, {})),
            [MemberView(m.name, m.email, m.role) for m in members],
            applications,
            allowances.gauges(session, ctx.now, [consumer_id]),
            invoices.of_consumer(session, consumer_id, issued_only=False),
            provider_of(session).currency,
            sum(running, Decimal(0)),
        )


def _line(consumer: Consumer, plans: list[str], calls: dict[str, int]) -> ConsumerLine:
    served = calls.get("served", 0) + calls.get("held", 0)
    return ConsumerLine(consumer.id, consumer.name, consumer.created_at, plans, served, calls.get("refused", 0))
