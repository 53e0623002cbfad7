"""A month of usage, its charges and its invoices, as tests make them."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, date, datetime, timedelta
from threading import Barrier
from typing import Any

from calm_tariff.services.base.context import Context
from calm_tariff.services.serve import history
from calm_tariff.services.settle.documents import issuing
from calm_tariff.services.settle.periods import charging, periods
from calm_tariff.services.settle.periods.periods import PeriodView, RunningCharge
from calm_tariff.store.base.paging import PageQuery
from tests.office import START, Office

SEPTEMBER, OCTOBER = date(2026, 9, 1), date(2026, 10, 1)


LATER = datetime(2026, 10, 3, 9, tzinfo=UTC)


def of(office: Office, consumer: str, start: date = SEPTEMBER) -> RunningCharge:
    return next(c for c in period(office, start).charges.rows if c.consumer == consumer)


def period(office: Office, start: date = SEPTEMBER) -> PeriodView:
    return periods.one(office.finance, start, PageQuery())


def issued(office: Office, start: date = SEPTEMBER) -> list[int]:
    charging.run(office.finance, start)
    drafts = period(office, start).drafts
    issuing.issue(office.finance, drafts)
    return drafts


def record(office: Office, count: int, since: datetime = START, tail: int = 0, **more: Any) -> None:
    one = office.consumers[0]
    calls = [office.call(one, since + timedelta(minutes=n), tail + n, **more) for n in range(count)]
    history.take_in(office.ctx, calls)


def at_once(ctx: Context, work: Any, many: int) -> list[Any]:
    gate = Barrier(many)

    def one(n: int) -> Any:
        gate.wait()
        return work(n)

    with ThreadPoolExecutor(many) as pool:
        return list(pool.map(one, range(many)))
