"""Billing months: what runs up in them, and what stands on their invoices."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.periods import Period, local_day, month_of, month_starting, period_before
from calm_tariff.core.rating import rate
from calm_tariff.services.base.context import ROLES, Context, provider_of, zone_of
from calm_tariff.services.settle import rating_cases
from calm_tariff.services.settle.documents import late_usage
from calm_tariff.services.settle.documents.late_usage import LateUnits
from calm_tariff.services.settle.periods import charging, reckoning
from calm_tariff.services.settle.periods.charging import RunView
from calm_tariff.services.settle.periods.reckoning import Reckoned
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.paging import Page, PageQuery, listed
from calm_tariff.store.compose.products import Plan
from calm_tariff.store.serve.usage import Call
from calm_tariff.store.settle.money_documents import Invoice

# Consumers named beside how many drafts there are.
NAMED = 24


@dataclass(frozen=True, slots=True)
class RunningCharge:
    """What a consumer owes so far in a period, before tax, by what is recorded; of an issued invoice, what that says.
    `invoiced` is what stands on its invoice or draft, `invoice_number` is there once that is issued."""

    consumer_id: int
    consumer: str
    plans: list[str]
    charge: Decimal
    currency: str
    invoice_id: int | None
    invoice_number: str | None
    invoice_state: str | None
    invoiced: Decimal | None = None


@dataclass(frozen=True, slots=True)
class PeriodSummary:
    """A billing month. `state`: running, ready to charge, drafted, issued."""

    start: date
    end: date
    state: str
    invoices: int
    total: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class PeriodView:
    """A billing month with a page of its charges. `subtotal` is of all of them, `draft_subtotal` of those in the draft
    invoices `drafts`, whose consumers come first in `drafted_for`. `late` has arrived for invoices already issued, and
    stands on none. What is on no invoice yet is what was recorded by `reckoned_at`."""

    start: date
    end: date
    state: str
    currency: str
    charges: Page[RunningCharge]
    subtotal: Decimal
    drafts: list[int]
    draft_subtotal: Decimal
    drafted_for: list[str]
    runs: list[RunView]
    late: list[LateUnits]
    reckoned_at: datetime


def everything(ctx: Context) -> list[PeriodSummary]:
    """Billing months from the first recorded call to the running one, newest first."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        running = month_of(local_day(ctx.now_us, zone_of(session)))
        first_us = session.scalar(select(func.min(Call.at_us)))
        first = month_of(local_day(first_us, zone_of(session))) if first_us else running
        invoiced = {
            start: (states, n, total)
            for start, states, n, total in session.execute(
                select(
                    Invoice.period_start,
                    func.group_concat(Invoice.state.distinct()),
                    func.count(),
                    func.sum(Invoice.total),
                ).group_by(Invoice.period_start)
            )
        }
        made = []
        period = running
        while period.start >= first.start:
            states, n, total = invoiced.get(period.start, ("", 0, Decimal(0)))
            made.append(PeriodSummary(period.start, period.end, _state(period, running, states), n, total))
            period = period_before(period)
        return made


def one(ctx: Context, start: date, wanted: PageQuery) -> PeriodView:
    """One billing month. Orders of its charges: consumer, invoice, state, charge. Raises `Invalid` for a day that
    starts none."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        period = month_starting(start)
        running = month_of(local_day(ctx.now_us, zone_of(session)))
        found = _charges(session, ctx, period)
        charges = found.charges
        drafts = [c for c in charges if c.invoice_state == "draft"]
        return PeriodView(
            start=period.start,
            end=period.end,
            state=_state(period, running, found.states),
            currency=provider_of(session).currency,
            charges=listed(charges, wanted, _ORDERS),
            subtotal=sum((c.charge for c in charges), Decimal(0)),
            drafts=[c.invoice_id for c in drafts if c.invoice_id],
            draft_subtotal=sum((c.invoiced or Decimal(0) for c in drafts), Decimal(0)),
            drafted_for=[c.consumer for c in drafts[:NAMED]],
            runs=charging.of_period(session, period.start),
            late=late_usage.of_period(session, period) if found.reckoned is None else found.reckoned.late,
            reckoned_at=ctx.now if found.reckoned is None else found.reckoned.at,
        )


def charges(ctx: Context, start: date, wanted: PageQuery) -> Page[RunningCharge]:
    """A page of one billing month's charges alone, in the same orders."""
    return pages(ctx, start)(wanted)


def pages(ctx: Context, start: date) -> Callable[[PageQuery], Page[RunningCharge]]:
    """One billing month's charges, worked out once, however many pages of them are then taken."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        found = _charges(session, ctx, month_starting(start)).charges
    return lambda wanted: listed(found, wanted, _ORDERS)


_ORDERS: dict[str, Callable[[RunningCharge], Any]] = {
    "consumer": lambda c: c.consumer,
    "invoice": lambda c: c.invoice_number or "",
    "state": lambda c: c.invoice_state or "",
    "charge": lambda c: c.charge,
    "invoiced": lambda c: c.invoiced or Decimal(0),
}


@dataclass(frozen=True, slots=True, kw_only=True)
class _Charged:
    """Everybody's charge in a period in the order of their names, the states of the invoices, and what was reckoned of
    it last."""

    charges: list[RunningCharge]
    states: str
    reckoned: Reckoned | None


def _charges(session: Session, ctx: Context, period: Period) -> _Charged:
    """Everybody's charge in a period: of those without an invoice, and of everybody without an issued one while it
    runs, as it was reckoned last, or worked out now where it never was."""
    running = period.end > local_day(ctx.now_us, zone_of(session))
    found = _invoiced(session, period)
    states = ",".join({c.invoice_state or "" for c in found.values()})
    plans = rating_cases.plans_in(session, period)
    # What is drafted of a month that has ended is told as it was drafted: whoever wants it anew charges it anew.
    owing = [c for c in plans if c not in found or (running and found[c].invoice_state == "draft")]
    reckoned = reckoning.kept(session, period)
    amounts = dict(reckoned.charges) if reckoned is not None else {}
    since = [consumer for consumer in owing if consumer not in amounts]
    for case in rating_cases.cases(session, period, since) if since else ():
        amounts[case.consumer_id] = rate(case.case).subtotal
    named = dict(session.execute(select(Consumer.id, Consumer.name).where(Consumer.id.in_(owing))).all())
    currency = provider_of(session).currency
    for consumer in owing:
        if consumer in amounts:
            found[consumer] = replace(
                found.get(consumer) or _nothing_yet(consumer, named[consumer], currency), charge=amounts[consumer]
            )
    names = _plan_names(session)
    for consumer, held in plans.items():
        if consumer in found:
            found[consumer] = replace(found[consumer], plans=[names[p] for p in dict.fromkeys(held)])
    return _Charged(charges=sorted(found.values(), key=lambda c: c.consumer), states=states, reckoned=reckoned)


def _invoiced(session: Session, period: Period) -> dict[int, RunningCharge]:
    """What stands on a period's invoices and drafts, by consumer."""
    read = (Invoice.id, Invoice.number, Invoice.state, Invoice.consumer_id, Invoice.subtotal, Invoice.currency)
    query = select(*read, Consumer.name).join(Consumer, Consumer.id == Invoice.consumer_id)
    return {
        row.consumer_id: RunningCharge(
            consumer_id=row.consumer_id,
            consumer=row.name,
            plans=[],
            charge=row.subtotal,
            currency=row.currency,
            invoice_id=row.id,
            invoice_number=row.number,
            invoice_state=row.state,
            invoiced=row.subtotal,
        )
        for row in session.execute(query.where(Invoice.period_start == period.start))
    }


def _nothing_yet(consumer_id: int, name: str, currency: str) -> RunningCharge:
    return RunningCharge(
        consumer_id=consumer_id,
        consumer=name,
        plans=[],
        charge=Decimal(0),
        currency=currency,
        invoice_id=None,
        invoice_number=None,
        invoice_state=None,
    )


def _plan_names(session: Session) -> dict[int, str]:
    return {p.id: f"{p.product.name} · {p.name}" for p in session.scalars(select(Plan))}


def _state(period: Period, running: Period, states: str) -> str:
    if period.start == running.start:
        return "running"
    if not states:
        return "ready to charge"
    return "drafted" if "draft" in states.split(",") else "issued"
