"""Usage that arrived for periods already issued: told, and shown apart, until it is charged.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.periods import Period, day_start
from calm_tariff.services.base.context import zone_of
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.serve import usage_queries
from calm_tariff.store.settle.invoices import Invoice, InvoiceLine

ZERO = Decimal(0)


@dataclass(frozen=True, slots=True, kw_only=True)
class LateUnits:
    """Units of one meter that arrived for a consumer's issued period. Below 0 where fewer are recorded now."""

    consumer_id: int
    consumer: str
    invoice_id: int
    meter_id: int
    meter: str
    units: Decimal


def of_period(session: Session, period: Period) -> list[LateUnits]:
    """What is recorded now for a period's issued invoices and stands on none of their lines, or differs from it."""
    invoices = select(Invoice.id, Invoice.consumer_id).where(
        Invoice.period_start == period.start, Invoice.state != "draft"
    )
    issued = {row.id: row.consumer_id for row in session.execute(invoices)}
    if not issued:
        return []
    lines = session.execute(
        select(InvoiceLine.invoice_id, InvoiceLine.stay_id, InvoiceLine.meter_id, InvoiceLine.quantity).where(
            InvoiceLine.invoice_id.in_(issued), InvoiceLine.kind == "usage", InvoiceLine.stay_id.is_not(None)
        )
    ).all()
    where = zone_of(session)
    recorded = usage_queries.units_by_stay(session, day_start(period.start, where), day_start(period.end, where))
    late: dict[tuple[int, int], Decimal] = {}
    for invoice, stay, meter, quantity in lines:
        if stay is None or meter is None:
            continue
        difference = recorded.get((stay, meter), ZERO) - (quantity or ZERO)
        if difference:
            late[invoice, meter] = late.get((invoice, meter), ZERO) + difference
    consumers = dict(session.execute(select(Consumer.id, Consumer.name)).all())
    meters = dict(session.execute(select(Meter.id, Meter.name)).all())
    found = [
        LateUnits(
            consumer_id=issued[invoice],
            consumer=consumers[issued[invoice]],
            invoice_id=invoice,
            meter_id=meter,
            meter=meters[meter],
            units=units,
        )
        for (invoice, meter), units in late.items()
    ]
    return sorted(found, key=lambda each: (each.consumer, each.meter))


def periods_with(session: Session, latest: Period, at_most: int = 3) -> list[tuple[date, list[LateUnits]]]:
    """The last issued periods, up to one, for which something has arrived, newest first."""
    query = (
        select(Invoice.period_start, Invoice.period_end)
        .where(Invoice.state != "draft", Invoice.period_start <= latest.start)
        .distinct()
        .order_by(Invoice.period_start.desc())
        .limit(at_most)
    )
    found = [(start, of_period(session, Period(start, end))) for start, end in session.execute(query)]
    return [(start, late) for start, late in found if late]
