"""Usage that arrives after a month was charged, and usage that is no more, as tests make them."""

from __future__ import annotations

from datetime import date, datetime, timedelta

from sqlalchemy import select

from calm_tariff.core.periods import day_start, month_of, zone
from calm_tariff.core.striking import MOST_NAMED
from calm_tariff.services.serve import history
from calm_tariff.services.settle import striking
from calm_tariff.services.settle.documents import invoices, issuing
from calm_tariff.services.settle.documents.invoices import InvoiceView
from calm_tariff.services.settle.periods import charging, periods
from calm_tariff.services.settle.striking import Wanted
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.serve.usage import Call
from tests.office import START, Office
from tests.services.months import SEPTEMBER

ZONE = zone("Europe/Lisbon")


def arrive(office: Office, count: int, first: int, since: datetime = START, whose: int = 0) -> None:
    """So many calls of a consumer, numbered from `first`, two minutes apart."""
    one = office.consumers[whose]
    calls = [office.call(one, since + timedelta(minutes=2 * n), first + n) for n in range(count)]
    history.take_in(office.ctx, office.counted(calls))


def lose(office: Office, units: int, month: date = SEPTEMBER, whose: int = 0) -> None:
    """Have so many of a consumer's calls of a month struck out, the earliest."""
    begin, end = (day_start(day, ZONE) for day in (month_of(month).start, month_of(month).end))
    mine = Call.subscription_id == office.consumers[whose].subscription
    counts = Call.strike_id.is_(None) & (Call.verdict != "refused")
    with office.ctx.transaction() as session:
        query = select(Call.call_id).where(mine, counts, Call.at_us >= begin, Call.at_us < end)
        calls = session.scalars(query.order_by(Call.at_us, Call.call_id).limit(units)).all()
    assert len(calls) == units
    for first in range(0, units, MOST_NAMED):
        ids = tuple(calls[first : first + MOST_NAMED])
        named = Wanted(filter=CallFilter(), source="test", ids=ids)
        striking.strike_out(office.finance, named, "They were our own tests.", len(ids))


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
