"""Usage that arrives after a month was charged, and usage that is no more, as tests make them."""

from __future__ import annotations

from datetime import date, datetime, timedelta
from decimal import Decimal

from sqlalchemy import select

from calm_tariff.core.periods import day_start, month_of, zone
from calm_tariff.services.serve import history
from calm_tariff.services.settle.documents import charging, invoices, issuing, periods
from calm_tariff.services.settle.documents.invoices import InvoiceView
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.serve.usage import DailyUsage, HourlyUsage
from tests.office import START, Office
from tests.services.months import SEPTEMBER

ZONE = zone("Europe/Lisbon")


def arrive(office: Office, count: int, first: int, since: datetime = START, whose: int = 0) -> None:
    """So many calls of a consumer, numbered from `first`, two minutes apart."""
    one = office.consumers[whose]
    calls = [office.call(one, since + timedelta(minutes=2 * n), first + n) for n in range(count)]
    history.take_in(office.ctx, office.counted(calls))


def lose(office: Office, units: int, month: date = SEPTEMBER) -> None:
    """Have fewer units of a month recorded, as where calls are struck out."""
    begin, end = (day_start(day, ZONE) for day in (month_of(month).start, month_of(month).end))
    with office.ctx.transaction() as session:
        for table, at in ((HourlyUsage, HourlyUsage.hour_us), (DailyUsage, DailyUsage.day_us)):
            left = Decimal(units)
            mine = table.subscription_id == office.consumers[0].subscription
            for row in session.scalars(select(table).where(mine, at >= begin, at < end)):
                taken = min(left, row.units)
                row.units -= taken
                left -= taken
            assert left == 0


def invoice_of(office: Office, start: object = SEPTEMBER, consumer: str = "Ferries") -> InvoiceView:
    """What a consumer's invoice or draft of a month says."""
    charges = periods.charges(office.finance, start, PageQuery(rows=1000)).rows  # type: ignore[arg-type]
    (found,) = [c.invoice_id for c in charges if c.consumer == consumer and c.invoice_id]
    return invoices.one(office.finance, found)


def issue(office: Office, start: object = SEPTEMBER, consumer: str = "Ferries") -> InvoiceView:
    """Draft a month and issue one consumer's invoice."""
    charging.run(office.finance, start)  # type: ignore[arg-type]
    draft = invoice_of(office, start, consumer).summary.id
    issuing.issue(office.finance, [draft])
    return invoices.one(office.finance, draft)
