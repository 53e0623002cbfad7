"""Consumers as the provider's staff see them: everything of one on one page."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from decimal import Decimal

from sqlalchemy import case, func, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound
from calm_tariff.core.periods import DAY, HOUR, local_day, moment_of, month_of
from calm_tariff.core.rating import rate
from calm_tariff.services.admit import consumer_notes, paying, suspending
from calm_tariff.services.admit.applications import ApplicationView, of_consumer
from calm_tariff.services.admit.consumer_notes import ConsumerNoteView
from calm_tariff.services.admit.desk import queue
from calm_tariff.services.admit.desk.views import RequestView
from calm_tariff.services.admit.organisation import details
from calm_tariff.services.admit.organisation.details import Details
from calm_tariff.services.admit.suspending import SuspensionView
from calm_tariff.services.base import auditing
from calm_tariff.services.base.auditing import Entry
from calm_tariff.services.base.context import ROLES, Context, provider_of, zone_of
from calm_tariff.services.house import letters
from calm_tariff.services.house.letters import LetterView
from calm_tariff.services.observe import allowances
from calm_tariff.services.observe.allowances import Gauge
from calm_tariff.services.settle import own_subscriptions, rating_cases
from calm_tariff.services.settle.accounts import ledger
from calm_tariff.services.settle.accounts.ledger import Owed
from calm_tariff.services.settle.documents import invoices
from calm_tariff.services.settle.documents.views import InvoiceSummary
from calm_tariff.services.settle.own_subscriptions import CourseView
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.community import Question
from calm_tariff.store.admit.consumers import Consumer, Member
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.compose.products import Plan, Product
from calm_tariff.store.serve import usage_queries

# Of requests, questions, letters and of the record so many are shown, the latest.
LATELY = 10


@dataclass(frozen=True, slots=True)
class ConsumerLine:
    """A line of the list: calls are those of the last 28 days, by UTC. `state`: core.lifecycles.CONSUMER."""

    id: int
    name: str
    state: str
    since: datetime
    plans: list[str]
    served: int
    refused: int


@dataclass(frozen=True, slots=True)
class MemberView:
    """Somebody of a consumer."""

    id: int
    name: str
    email: str
    role: str


@dataclass(frozen=True, slots=True, kw_only=True)
class AskedLine:
    """A question that one of its members asked."""

    id: int
    title: str
    product: str
    state: str
    asked_at: datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class MergedView:
    """The other of two organisations of which one was merged into the other, and when."""

    id: int
    name: str
    at: datetime | None


@dataclass(frozen=True, slots=True, kw_only=True)
class ConsumerView:
    """One consumer. `running` is this period's charge so far, before tax; the line's calls are those since
    `calls_since`; `pays` is how, in words, "" where it has not said so. `left` are those who belonged to it and are not
    erased. What is personal in it was erased at `erased_at`. `merged_into` is the one that goes on in its place, and
    `merged` are those in whose place it goes on: their calls and invoices are shown with its own."""

    line: ConsumerLine
    details: Details
    closed_at: datetime | None
    merged_into: MergedView | None
    merged: list[MergedView]
    erased_at: datetime | None
    left: list[MemberView]
    portal: str
    pays: str
    calls_since: datetime
    members: list[MemberView]
    applications: list[ApplicationView]
    courses: list[CourseView]
    gauges: list[Gauge]
    invoices: list[InvoiceSummary]
    owed: Owed
    requests: list[RequestView]
    suspensions: list[SuspensionView]
    questions: list[AskedLine]
    letters: list[LetterView]
    notes: list[ConsumerNoteView]
    record: list[Entry]
    currency: str
    running: Decimal


def listed(ctx: Context, wanted: PageQuery) -> Page[ConsumerLine]:
    """A page of the consumers. Orders: name, state (those who wait to be let in first), since, served, refused."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        month = usage_queries.verdicts_of_all(_month_ago(ctx))
        served, refused = (func.coalesce(c, 0) for c in (month.c.let_in, month.c.refused))
        query = select(Consumer, served, refused).outerjoin(month, month.c.consumer_id == Consumer.id)
        if wanted.words:
            query = query.where(func.lower(Consumer.name).contains(wanted.words.lower(), autoescape=True))
        orders = {
            "name": Consumer.name,
            "state": _WAITING_FIRST,
            "since": Consumer.created_at,
            "served": served,
            "refused": refused,
        }
        found = page(session, query, Consumer.id, orders, wanted)
        plans = _plans(session, [consumer.id for consumer, *_ in found.rows])
        return replace(
            found,
            rows=[
                ConsumerLine(c.id, c.name, c.state, c.created_at, plans.get(c.id, []), *map(int, ns))
                for c, *ns in found.rows
            ],
        )


def one(ctx: Context, consumer_id: int) -> ConsumerView:
    """One consumer with everything of it. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        consumer = session.get(Consumer, consumer_id)
        if consumer is None:
            raise NotFound("there is no such consumer", str(consumer_id))
        month = usage_queries.verdicts_of(session, _month_ago(ctx), ctx.now_us + HOUR, consumer_id)
        applications = of_consumer(session, consumer_id, ctx.now)
        plans = _plans(session, [consumer_id]).get(consumer_id, [])
        everybody = session.scalars(select(Member).filter_by(consumer_id=consumer_id).order_by(Member.id)).all()
        today = local_day(ctx.now_us, zone_of(session))
        period = month_of(today)
        running = [rate(c.case).subtotal for c in rating_cases.cases(session, period, [consumer_id])]
        return ConsumerView(
            line=ConsumerLine(
                id=consumer.id,
                name=consumer.name,
                state=consumer.state,
                since=consumer.created_at,
                plans=plans,
                served=month.get("served", 0) + month.get("held", 0),
                refused=month.get("refused", 0),
            ),
            details=details.of(session, consumer),
            closed_at=consumer.closed_at,
            merged_into=_merged_into(session, consumer),
            merged=[MergedView(id=c.id, name=c.name, at=c.closed_at) for c in _merged(session, consumer_id)],
            erased_at=consumer.erased_at,
            left=[_member(m) for m in everybody if m.left_at is not None and m.erased_at is None],
            portal=consumer.portal.name,
            pays=paying.said(consumer),
            calls_since=moment_of(_month_ago(ctx)),
            members=[_member(m) for m in everybody if m.left_at is None],
            applications=applications,
            courses=own_subscriptions.courses(session, consumer_id),
            gauges=allowances.of_consumer(session, ctx.now, consumer_id),
            invoices=invoices.of_consumer(session, consumer_id, issued_only=False),
            owed=ledger.owed(session, consumer_id, today),
            requests=queue.of_consumer(session, ctx, consumer_id, LATELY),
            suspensions=suspending.of_consumer(session, consumer_id),
            questions=_asked(session, [m.id for m in everybody]),
            letters=letters.to(session, [m.email for m in everybody], LATELY),
            notes=consumer_notes.of_consumer(session, ctx, consumer_id),
            record=auditing.about(session, "consumer", consumer_id, LATELY),
            currency=provider_of(session).currency,
            running=sum(running, Decimal(0)),
        )


def _merged(session: Session, consumer_id: int) -> Sequence[Consumer]:
    return session.scalars(select(Consumer).filter_by(merged_into_id=consumer_id).order_by(Consumer.id)).all()


def _merged_into(session: Session, consumer: Consumer) -> MergedView | None:
    if consumer.merged_into_id is None:
        return None
    into = session.get_one(Consumer, consumer.merged_into_id)
    return MergedView(id=into.id, name=into.name, at=consumer.closed_at)


_WAITING_FIRST = case({"waiting": 0, "turned away": 1}, value=Consumer.state, else_=2)


def _asked(session: Session, members: Sequence[int]) -> list[AskedLine]:
    query = select(Question).where(Question.member_id.in_(members)).order_by(Question.id.desc()).limit(LATELY)
    return [
        AskedLine(id=q.id, title=q.title, product=q.product.name, state=q.state, asked_at=q.asked_at)
        for q in session.scalars(query)
    ]


def _member(of: Member) -> MemberView:
    return MemberView(of.id, of.name, of.email if of.left_at is None else "", of.role)


def _month_ago(ctx: Context) -> int:
    """The beginning of the 28 days, by UTC, that end with today."""
    return ctx.now_us // DAY * DAY - 27 * DAY


def _plans(session: Session, consumers: Sequence[int]) -> dict[int, list[str]]:
    query = (
        select(Application.consumer_id, Product.name, Plan.name)
        .join(Subscription, Subscription.application_id == Application.id)
        .join(Plan, Plan.id == Subscription.plan_id)
        .join(Product, Product.id == Plan.product_id)
        .where(Subscription.state != "ended", Application.consumer_id.in_(consumers))
        .order_by(Subscription.id)
    )
    plans: dict[int, list[str]] = {}
    for consumer_id, product, plan in session.execute(query):
        plans.setdefault(consumer_id, []).append(f"{product} · {plan}")
    return {consumer: [_times(p, held.count(p)) for p in dict.fromkeys(held)] for consumer, held in plans.items()}


def _times(plan: str, applications: int) -> str:
    return plan if applications == 1 else f"{plan}, {applications} applications"
