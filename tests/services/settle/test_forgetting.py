"""Calls are kept for as long as the settings say: no month that is not charged goes, nor a figure made of calls."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime

import pytest
from sqlalchemy import func, select

from calm_tariff.services.base import auditing
from calm_tariff.services.base.auditing import EntryFilter
from calm_tariff.services.base.context import provider_of
from calm_tariff.services.serve import history
from calm_tariff.services.settle import forgetting
from calm_tariff.services.settle.documents import issuing
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.serve.usage import Call, DailyUsage, HourlyUsage
from calm_tariff.store.settle.money_documents import Invoice
from tests.office import Office

MONTHS = (9, 10, 11)
NOW = datetime(2027, 2, 3, 12, tzinfo=UTC)


@pytest.fixture
def lived(office: Office) -> Office:
    """An office with calls in three months, on the first and the last instant of each among them, none charged yet."""
    ferries, tail = office.consumers[0], 0
    calls = []
    for month in MONTHS:
        for at in (datetime(2026, month, 11, tzinfo=UTC), datetime(2026, month, 28, 23, 59, 59, tzinfo=UTC)):
            tail += 1
            calls.append(office.call(ferries, at, tail))
    # The midnight of Lisbon is an hour before that of UTC until the last Sunday of October.
    calls.append(office.call(ferries, datetime(2026, 9, 30, 22, 59, 59, tzinfo=UTC), 90))
    calls.append(office.call(ferries, datetime(2026, 9, 30, 23, 0, 0, tzinfo=UTC), 91))
    history.take_in(office.ctx, calls)
    office.clock.now = NOW
    return office


def kept(office: Office, months: int) -> None:
    with office.ctx.transaction() as session:
        provider_of(session).call_months = months


def charge(office: Office, month: int, issue: bool = True) -> None:
    charging.run(office.finance, date(2026, month, 1))
    if issue:
        with office.ctx.transaction() as session:
            drafts = select(Invoice.id).where(Invoice.state == "draft")
            issuing.issue(office.finance, list(session.scalars(drafts)))


def left(office: Office) -> list[str]:
    with office.ctx.transaction() as session:
        found = session.scalars(select(Call.at_us).order_by(Call.at_us)).all()
    return [f"{datetime.fromtimestamp(at / 1_000_000, UTC):%d %b %H:%M:%S}" for at in found]


def test_months_that_are_charged_and_lie_further_back_go_and_what_was_made_of_them_stays(lived: Office) -> None:
    for month in MONTHS:
        charge(lived, month)
    with lived.ctx.transaction() as session:
        counted = [session.scalar(select(func.sum(table.units))) for table in (HourlyUsage, DailyUsage)]
        sums = session.execute(select(Invoice.number, Invoice.total)).all()
    kept(lived, 4)  # now is February: October and later are kept
    assert forgetting.forget_calls(lived.ctx) == 3
    assert left(lived) == [
        "30 Sep 23:00:00",  # the first of October, there
        "11 Oct 00:00:00",
        "28 Oct 23:59:59",
        "11 Nov 00:00:00",
        "28 Nov 23:59:59",
    ]
    with lived.ctx.transaction() as session:
        assert [session.scalar(select(func.sum(table.units))) for table in (HourlyUsage, DailyUsage)] == counted
        assert session.execute(select(Invoice.number, Invoice.total)).all() == sums
        assert provider_of(session).calls_from == date(2026, 10, 1)
    (entry,) = auditing.entries(lived.manager, PageQuery(), EntryFilter(action="threw calls away")).rows
    assert entry.after == {"calls from": "2026-10-01", "calls": 3}
    assert forgetting.forget_calls(lived.ctx) == 0
    assert len(auditing.entries(lived.manager, PageQuery(), EntryFilter(action="threw calls away")).rows) == 1


def test_no_month_goes_before_it_and_those_before_are_charged_and_issued(lived: Office) -> None:
    kept(lived, 3)
    assert forgetting.forget_calls(lived.ctx) == 0
    charge(lived, 10)  # September is not
    assert forgetting.forget_calls(lived.ctx) == 0
    charge(lived, 9, issue=False)
    assert forgetting.forget_calls(lived.ctx) == 0
    charge(lived, 9)
    assert forgetting.forget_calls(lived.ctx) == 6
    assert left(lived) == ["11 Nov 00:00:00", "28 Nov 23:59:59"]


def test_they_are_kept_for_ever_unless_somebody_says_otherwise(lived: Office) -> None:
    for month in MONTHS:
        charge(lived, month)
    later = replace(lived.ctx, clock=lambda: datetime(2036, 1, 1, tzinfo=UTC))
    assert forgetting.forget_calls(later) == 0
    assert len(left(lived)) == 8
