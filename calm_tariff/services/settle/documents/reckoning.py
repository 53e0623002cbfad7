"""What a month comes to before it is invoiced, reckoned for everybody every few minutes, so that whoever looks at it
need not wait for thousands of charges to be worked out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from calm_tariff.core.periods import Period, local_day, month_of, month_starting, period_before
from calm_tariff.core.rating import rate
from calm_tariff.services.base import jobs
from calm_tariff.services.base.context import ROLES, Context, zone_of
from calm_tariff.services.settle import rating_cases
from calm_tariff.store.base.provider import Provider
from calm_tariff.store.settle.money_documents import Invoice
from calm_tariff.store.settle.reckoned_months import ReckonedMonth

RECKON = "reckon what a month comes to"


@dataclass(frozen=True, slots=True, kw_only=True)
class Reckoned:
    """Charges before tax by consumer, of what was recorded by `at`."""

    at: datetime
    charges: Mapping[int, Decimal]


def ask(ctx: Context, start: date) -> None:
    """Have a month reckoned now. Raises `Invalid` for a day that starts none."""
    ctx.actor.must_be(*ROLES)
    period = month_starting(start)
    with ctx.transaction() as session:
        jobs.write(session, ctx, RECKON, f"{period.start:%B %Y}", {"month": str(period.start)}, subject=str(start))


def look(ctx: Context) -> None:
    """Reckon the running month, and the last one until it is drafted."""
    with ctx.transaction() as session:
        if session.scalar(select(Provider.id)) is None:
            return
        running = month_of(local_day(ctx.now_us, zone_of(session)))
        last = period_before(running)
        drafted = session.scalar(select(Invoice.id).where(Invoice.period_start == last.start).limit(1))
    for period in (running, *(() if drafted else (last,))):
        reckon(ctx, period.start)


def reckon(ctx: Context, start: date) -> None:
    """Reckon a month for everybody, and keep what it comes to in place of what was kept before."""
    at = ctx.now
    with ctx.transaction() as session:
        cases = rating_cases.cases(session, month_starting(start))
        made = insert(ReckonedMonth).values(
            period_start=start,
            reckoned_at=at,
            charges={str(case.consumer_id): str(rate(case.case).subtotal) for case in cases},
        )
        anew = {name: made.inserted[name] for name in ("reckoned_at", "charges")}
        session.execute(made.on_duplicate_key_update(anew))


def kept(session: Session, period: Period) -> Reckoned | None:
    """What a month came to when it was last reckoned, if it ever was."""
    found = session.get(ReckonedMonth, period.start)
    if found is None:
        return None
    return Reckoned(at=found.reckoned_at, charges={int(of): Decimal(x) for of, x in found.charges.items()})
