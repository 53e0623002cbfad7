"""What a file of usage comes to in money's terms: by consumer and month, and which of these months are charged already,
so that it is late usage.

Source: docs/arithmetic.md, sections 5 and 6.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.admit import merged
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.serve.outside_usage import UsageFile
from calm_tariff.store.settle.money_documents import Invoice


@dataclass(frozen=True, slots=True, kw_only=True)
class UnitsTold:
    """So many units of a meter."""

    meter_id: int
    meter: str
    units: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class UsageMonth:
    """What a file has of one consumer's calls in one month. With an invoice, by `number`, the month is charged: what
    comes to more will be late lines of the next."""

    consumer_id: int
    consumer: str
    month: date
    calls: int
    units: list[UnitsTold]
    invoice_id: int | None
    number: str


def months(ctx: Context, usage_file_id: int) -> list[UsageMonth]:
    """What a file has that could be used when it was checked, by month and consumer. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        found = session.get(UsageFile, usage_file_id)
        if found is None:
            raise NotFound("there is no such file of usage", str(usage_file_id))
        return _months(session, found.tally)


def _months(session: Session, tally: Sequence[dict[str, Any]]) -> list[UsageMonth]:
    if not tally:
        return []
    successors = merged.successors(session)
    told = {each["consumer"] for each in tally}
    go_on = {consumer: successors.get(consumer, consumer) for consumer in told}
    wanted = select(Consumer.id, Consumer.name).where(Consumer.id.in_(go_on.values()))
    names = {consumer: name for consumer, name in session.execute(wanted)}  # noqa: C416
    meters = {meter: name for meter, name in session.execute(select(Meter.id, Meter.name))}  # noqa: C416
    invoices = _issued(session, {date.fromisoformat(each["month"]) for each in tally}, told)
    found = []
    for each in tally:
        consumer, month = each["consumer"], date.fromisoformat(each["month"])
        invoice, number = invoices.get((consumer, month), (None, ""))
        units = [
            UnitsTold(meter_id=int(meter), meter=meters.get(int(meter), ""), units=Decimal(counted))
            for meter, counted in each["units"].items()
        ]
        found.append(
            UsageMonth(
                consumer_id=go_on[consumer],
                consumer=names.get(go_on[consumer], ""),
                month=month,
                calls=each["calls"],
                units=units,
                invoice_id=invoice,
                number=number,
            )
        )
    return sorted(found, key=lambda each: (each.month, each.consumer))


def _issued(session: Session, months: set[date], consumers: set[int]) -> dict[tuple[int, date], tuple[int, str]]:
    query = select(Invoice.consumer_id, Invoice.period_start, Invoice.id, Invoice.number).where(
        Invoice.period_start.in_(months), Invoice.consumer_id.in_(consumers), Invoice.state != "draft"
    )
    return {(consumer, month): (invoice, number or "") for consumer, month, invoice, number in session.execute(query)}
