"""What a month comes to before it is invoiced, and what arrived late for one that is issued, reckoned for everybody
every few minutes, so that whoever looks at it need not wait until thousands of charges are worked out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from calm_tariff.core.periods import Period, local_day, month_of, month_starting, period_before
from calm_tariff.core.rating import rate
from calm_tariff.services.base import jobs
from calm_tariff.services.base.context import ROLES, Context, zone_of
from calm_tariff.services.serve.elsewhere.going_on import RECKON_MONTHS
from calm_tariff.services.settle import rating_cases
from calm_tariff.services.settle.documents import late_usage
from calm_tariff.services.settle.documents.late_usage import LateUnits
from calm_tariff.store.base.provider import Provider
from calm_tariff.store.settle.money_documents import Invoice
from calm_tariff.store.settle.reckoned_months import ReckonedMonth

RECKON = "reckon a month that was asked for"
# So many issued months are looked through for what arrived late.
MONTHS = 3


@dataclass(frozen=True, slots=True, kw_only=True)
class Reckoned:
    """Charges before tax by consumer, and what arrived late, of what was recorded by `at`."""

    at: datetime
    charges: Mapping[int, Decimal]
    late: list[LateUnits]


def ask(ctx: Context, start: date) -> None:
    """Have a month reckoned now. Raises `Invalid` for a day that starts none."""
    ctx.actor.must_be(*ROLES)
    period = month_starting(start)
    with ctx.transaction() as session:
        jobs.write(session, ctx, RECKON, f"{period.start:%B %Y}", {"month": str(period.start)}, subject=str(start))


def look(ctx: Context) -> None:
    """Reckon the running month, the last one until it is drafted, and the last issued ones."""
    with ctx.transaction() as session:
        if session.scalar(select(Provider.id)) is None:
            return
        running = month_of(local_day(ctx.now_us, zone_of(session)))
        last = period_before(running)
        drafted = session.scalar(select(Invoice.id).where(Invoice.period_start == last.start).limit(1))
        issued = late_usage.issued_periods(session, last.start, MONTHS)
    for start in sorted({running.start, *(each.start for each in issued), *(() if drafted else (last.start,))}):
        reckon(ctx, start)


def reckon(ctx: Context, start: date) -> None:
    """Reckon a month for everybody, and keep what it comes to in place of what was kept before."""
    at = ctx.now
    with ctx.transaction() as session:
        period = month_starting(start)
        found = late_usage.of_period(session, period)
        values: dict[str, Any] = {
            "reckoned_at": at,
            "charges": {str(consumer): str(charge) for consumer, charge in _charges(session, period).items()},
            "late": [[each.invoice_id, each.meter_id, str(each.units)] for each in found],
        }
        made = insert(ReckonedMonth).values(period_start=start, **values)
        session.execute(made.on_duplicate_key_update({name: made.inserted[name] for name in values}))


def _charges(session: Session, period: Period) -> dict[int, Decimal]:
    """What a month comes to for those who have no issued invoice of it."""
    with_one = select(Invoice.consumer_id).where(Invoice.period_start == period.start, Invoice.state != "draft")
    done = set(session.scalars(with_one))
    whom = [each for each in rating_cases.plans_in(session, period) if each not in done] if done else None
    cases = rating_cases.cases(session, period, whom)
    return {case.consumer_id: rate(case.case).subtotal for case in cases if case.consumer_id not in done}


def forget(session: Session, ctx: Context) -> None:
    """Have months worked out when they are looked at, until they are reckoned next, which is soon: something was
    issued, credited, struck out or merged. What is being reckoned meanwhile is reckoned once more."""
    session.execute(delete(ReckonedMonth))
    jobs.soon(session, ctx, RECKON_MONTHS)


def kept(session: Session, period: Period) -> Reckoned | None:
    """What a month came to when it was last reckoned, if it was since something was issued."""
    found = session.get(ReckonedMonth, period.start)
    if found is None:
        return None
    return Reckoned(
        at=found.reckoned_at,
        charges={int(of): Decimal(x) for of, x in found.charges.items()},
        late=late_usage.named(session, {(of, meter): Decimal(units) for of, meter, units in found.late}),
    )


def months_with_late(session: Session, latest: date) -> list[tuple[date, list[LateUnits]]]:
    """The last issued months, up to one, for which something has arrived, newest first."""
    found = []
    for period in late_usage.issued_periods(session, latest, MONTHS):
        known = kept(session, period)
        found.append((period.start, late_usage.of_period(session, period) if known is None else known.late))
    return [(start, late) for start, late in found if late]
