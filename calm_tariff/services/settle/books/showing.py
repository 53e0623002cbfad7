"""The books as they are shown: the last time they were looked through, what each check came to, and what differs."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from typing import Any, cast

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.books.proof import CHECKS, Check
from calm_tariff.core.periods import day_start, month_starting, month_step
from calm_tariff.services.base.context import ROLES, Context, provider_of, zone_of
from calm_tariff.services.settle.books import audits
from calm_tariff.services.settle.books.narrowing import WrongCall
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan, Product
from calm_tariff.store.settle.books import BookDifference, BooksAudit, BookSum
from calm_tariff.store.settle.money_documents import MoneyDocument


@dataclass(frozen=True, slots=True, kw_only=True)
class SumView:
    """What a table says."""

    table: str
    amount: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class ProofView:
    """A check: what it proves, whether it is of money, how many sums were compared, what they come to, and how many
    differ."""

    check: str
    proves: str
    of_money: bool
    compared: int
    sums: list[SumView]
    differences: int


@dataclass(frozen=True, slots=True, kw_only=True)
class PeriodCalls:
    """What became of a period's calls, between two instants: counted by a meter; or by none, because they were refused,
    struck out, made in the sandbox, failed, or no meter covers them. `differ` says of how many subscriptions and meters
    the units do not agree, of `sums` in all."""

    start: date
    since_us: int
    until_us: int
    recorded: int
    counted: int
    refused: int
    struck_out: int
    sandbox: int
    failed: int
    uncovered: int
    sums: int
    differ: int


@dataclass(frozen=True, slots=True, kw_only=True)
class AuditView:
    """A looking through the books: of `planned` checks so many are `done`; `at` is the moment of which it tells."""

    id: int
    state: str
    asked_by: str
    asked_at: datetime
    at: datetime | None
    ended_at: datetime | None
    planned: int
    done: int


@dataclass(frozen=True, slots=True, kw_only=True)
class BooksView:
    """The books by the last audit that was done, where there is one; and the one that is going on."""

    last: AuditView | None
    going: AuditView | None
    proofs: list[ProofView]
    periods: list[PeriodCalls]
    differences: int
    currency: str


@dataclass(frozen=True, slots=True, kw_only=True)
class UnitsRow:
    """Units of one meter of one subscription in a period, by where they are (core.billing.books.proof)."""

    subscription_id: int
    consumer_id: int | None
    consumer: str
    application: str
    plan: str
    meter_id: int
    meter: str
    recorded: Decimal | None
    charged: Decimal
    nothing_due: Decimal
    free: Decimal
    running: Decimal
    late: Decimal
    outside: Decimal
    agrees: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class StretchView:
    """An hour or a day in which tables differ: what each says, and of the calls in it those that are wrong by
    themselves (services.settle.books.narrowing)."""

    since_us: int
    until_us: int
    sums: list[SumView]
    wrong: list[WrongCall]


@dataclass(frozen=True, slots=True, kw_only=True)
class DifferenceView:
    """Sums that differ, in words, whose they are, what each table says, and which hours and calls it came of."""

    id: int
    check: str
    what: str
    whose: str
    sums: list[SumView]
    came_of: list[StretchView]
    period: date | None
    subscription_id: int | None
    meter_id: int | None
    consumer_id: int | None
    document_id: int | None
    document_kind: str


def books(ctx: Context) -> BooksView:
    """The books as they were last looked through."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        newest = session.scalars(select(BooksAudit).order_by(BooksAudit.id.desc()).limit(1)).first()
        at = audits.last_done(session)
        last = None if at is None else session.get_one(BooksAudit, at)
        return BooksView(
            last=None if last is None else _audit(last),
            going=_audit(newest) if newest is not None and newest.state == "running" else None,
            proofs=[] if last is None else [_proof(each) for each in last.proofs],
            periods=[] if last is None else _periods(session, last),
            differences=0 if last is None else sum(each["differences"] for each in last.proofs),
            currency=provider_of(session).currency,
        )


def differing(session: Session) -> int:
    """How many sums differed when the books were last looked through."""
    at = audits.last_done(session)
    return 0 if at is None else sum(each["differences"] for each in session.get_one(BooksAudit, at).proofs)


def named(ctx: Context, subscriptions: Collection[int]) -> Names:
    """What some subscriptions, and all meters, are called."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return Names(session, set(subscriptions), ())


def differences(ctx: Context, wanted: PageQuery) -> Page[DifferenceView]:
    """A page of what differed when the books were last looked through, check by check. Orders: found."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        query = select(BookDifference).where(BookDifference.audit_id == (audits.last_done(session) or 0))
        if wanted.words:
            query = query.where(func.lower(BookDifference.what).contains(wanted.words.lower(), autoescape=True))
        found = page(session, query, BookDifference.id, {"found": BookDifference.id}, wanted)
        rows = found.rows
        names = Names(
            session,
            {each.subscription_id for each in rows if each.subscription_id},
            {each.consumer_id for each in rows if each.consumer_id},
        )
        ids = {each.document_id for each in rows if each.document_id}
        of_kind = select(MoneyDocument.id, MoneyDocument.kind).where(MoneyDocument.id.in_(ids))
        kinds = dict(session.execute(of_kind).all())
        views = [_difference(each, names, kinds.get(each.document_id or 0, "")) for each in rows]
        return Page(views, found.next, found.total)


def units(ctx: Context, start: date, wanted: PageQuery) -> Page[UnitsRow]:
    """A page of where a period's units are, by subscription and meter; those that do not agree first. Orders:
    differing, consumer. Raises `Invalid` for a day that starts no period."""
    ctx.actor.must_be(*ROLES)
    month_starting(start)
    with ctx.reading() as session:
        query = (
            select(BookSum, Consumer.name)
            .outerjoin(Subscription, Subscription.id == BookSum.subscription_id)
            .outerjoin(Application, Application.id == Subscription.application_id)
            .outerjoin(Consumer, Consumer.id == Application.consumer_id)
            .where(BookSum.audit_id == (audits.last_done(session) or 0), BookSum.period_start == start)
        )
        if wanted.words:
            query = query.where(func.lower(Consumer.name).contains(wanted.words.lower(), autoescape=True))
        place = BookSum.subscription_id * 1_000_000 + BookSum.meter_id
        orders = {"differing": BookSum.agrees, "consumer": func.ifnull(Consumer.name, "")}
        found = page(session, query, place, orders, wanted)
        rows = [each for each, *_ in found.rows]
        names = Names(session, {each.subscription_id for each in rows}, ())
        return Page([_units(each, names) for each in rows], found.next, found.total)


class Names:
    """What subscriptions, meters and consumers are called."""

    def __init__(self, session: Session, subscriptions: Collection[int], consumers: Collection[int]) -> None:
        query = (
            select(Subscription.id, Consumer.id, Consumer.name, Application.name, Product.name, Plan.name)
            .join(Application, Application.id == Subscription.application_id)
            .join(Consumer, Consumer.id == Application.consumer_id)
            .join(Plan, Plan.id == Subscription.plan_id)
            .join(Product, Product.id == Plan.product_id)
            .where(Subscription.id.in_(subscriptions))
        )
        self.subscriptions = {row[0]: row[1:] for row in session.execute(query)}
        self.meters = dict(session.execute(select(Meter.id, Meter.name)).all())
        known = select(Consumer.id, Consumer.name).where(Consumer.id.in_(consumers))
        self.consumers = dict(session.execute(known).all())

    def meter(self, of: int | None) -> str:
        """A meter in words; "" for none."""
        return self.meters.get(of, f"meter {of}") if of else ""

    def subscription(self, of: int) -> str:
        """A subscription in words."""
        if of not in self.subscriptions:
            return f"subscription {of}" if of else "no subscription"
        _, consumer, application, product, plan = self.subscriptions[of]
        return f"{consumer}, {application} on {product} · {plan}"

    def whose(self, of: BookDifference) -> str:
        """Whose a difference is, in words."""
        meter = self.meter(of.meter_id)
        if of.subscription_id:
            return self.subscription(of.subscription_id) + (f": {meter}" if meter else "")
        consumer = self.consumers.get(of.consumer_id or 0, "")
        return consumer or meter


def _audit(of: BooksAudit) -> AuditView:
    return AuditView(
        id=of.id,
        state=of.state,
        asked_by=of.asked_by,
        asked_at=of.asked_at,
        at=of.at,
        ended_at=of.ended_at,
        planned=of.planned,
        done=of.done,
    )


def _proof(of: dict[str, Any]) -> ProofView:
    check = cast("Check", of["check"])
    return ProofView(
        check=check,
        proves=CHECKS[check],
        of_money=check in ("documents", "accounts", "money", "journal"),
        compared=of["compared"],
        sums=_sums(of["sums"]),
        differences=of["differences"],
    )


def _sums(of: Collection[tuple[str, str]]) -> list[SumView]:
    return [SumView(table=name, amount=Decimal(amount)) for name, amount in of]


def _periods(session: Session, of: BooksAudit) -> list[PeriodCalls]:
    """The latest first."""
    where = zone_of(session)
    counted: dict[date, list[int]] = defaultdict(lambda: [0, 0])
    query = select(BookSum.period_start, BookSum.agrees, func.count()).where(BookSum.audit_id == of.id)
    for start, agrees, many in session.execute(query.group_by(BookSum.period_start, BookSum.agrees)):
        counted[start][0] += many
        counted[start][1] += 0 if agrees else many
    found = []
    for each in reversed(of.calls):
        start = date.fromisoformat(each["period"])
        found.append(
            PeriodCalls(
                start=start,
                since_us=day_start(start, where),
                until_us=day_start(month_step(start, 1), where),
                sums=counted[start][0],
                differ=counted[start][1],
                **{name: count for name, count in each.items() if name != "period"},
            )
        )
    return found


def _units(of: BookSum, names: Names) -> UnitsRow:
    consumer_id, consumer, application, product, plan = names.subscriptions.get(
        of.subscription_id, (None, "nobody known", "", "", "")
    )
    return UnitsRow(
        subscription_id=of.subscription_id,
        consumer_id=consumer_id,
        consumer=consumer,
        application=application,
        plan=f"{product} · {plan}" if plan else "",
        meter_id=of.meter_id,
        meter=names.meter(of.meter_id),
        recorded=of.recorded,
        charged=of.charged,
        nothing_due=of.nothing_due,
        free=of.free,
        running=of.running,
        late=of.late,
        outside=of.outside,
        agrees=of.agrees,
    )


def _difference(of: BookDifference, names: Names, kind: str) -> DifferenceView:
    return DifferenceView(
        id=of.id,
        check=of.check,
        what=of.what,
        whose=names.whose(of),
        sums=_sums(of.sums),
        came_of=[
            StretchView(
                since_us=each["since_us"],
                until_us=each["until_us"],
                sums=_sums(each["sums"]),
                wrong=[
                    WrongCall(
                        call_id=wrong["call_id"],
                        at_us=wrong["at_us"],
                        says=Decimal(wrong["says"]),
                        reads=Decimal(wrong["reads"]),
                    )
                    for wrong in each["wrong"]
                ],
            )
            for each in of.came_of
        ],
        period=of.period_start,
        subscription_id=of.subscription_id,
        meter_id=of.meter_id,
        consumer_id=of.consumer_id,
        document_id=of.document_id,
        document_kind=kind,
    )
