"""The log and the figures by minute: of everybody for staff, of oneself alone for a consumer."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta

import pytest

from calm_tariff.core.errors import NotSignedIn
from calm_tariff.services.observe import traffic
from calm_tariff.services.serve import history
from calm_tariff.store.serve.call_queries import CallFilter
from tests.office import START, Office

EVERYTHING = CallFilter()


@pytest.fixture
def busy(office: Office) -> Office:
    """Two consumers: 45 served calls of the first, a minute apart; two held and one refused of the second."""
    ferries, kayaks = office.consumers
    calls = [office.call(ferries, START + timedelta(minutes=n), n) for n in range(45)]
    calls += [
        office.call(kayaks, START + timedelta(minutes=44, seconds=n), 100 + n, verdict="held", wait_us=1000 * n)
        for n in (2, 4)
    ]
    calls.append(
        office.call(
            kayaks,
            START + timedelta(minutes=44, seconds=9),
            109,
            verdict="refused",
            refused_by="Rate",
            status=429,
            units={},
        )
    )
    history.take_in(office.ctx, calls)
    office.clock.forward(minutes=44, seconds=30)
    return office


def test_figures_are_those_of_the_last_half_hour_minute_by_minute(busy: Office) -> None:
    recent = traffic.recent(busy.manager, EVERYTHING)
    assert (recent.served, recent.held, recent.refused, recent.held_ms) == (30, 2, 1, 3)
    assert len(recent.minutes) == 30
    assert recent.minutes[0].at == START + timedelta(minutes=15)
    last = recent.minutes[-1]
    assert (last.served, last.held, last.refused) == (1, 2, 1)
    assert sum(m.served for m in recent.minutes) == recent.served
    refused = traffic.recent(busy.manager, CallFilter(verdict="refused"))
    assert (refused.served, refused.held, refused.refused) == (0, 0, 1)


def test_nothing_lately_is_thirty_minutes_of_nothing(busy: Office) -> None:
    busy.clock.forward(days=1)
    recent = traffic.recent(busy.manager, EVERYTHING)
    assert (recent.served, recent.held_ms, recent.newest, len(recent.minutes)) == (0, 0, None, 30)


def test_pages_of_the_log_follow_each_other_to_its_end(busy: Office) -> None:
    first = traffic.log(busy.manager, EVERYTHING)
    assert (len(first.rows), first.total) == (traffic.PAGE, 48)
    rest = traffic.log(busy.manager, EVERYTHING, first.next)
    assert len(rest.rows) == 8 and rest.next is None
    assert len({row.call_id for row in (*first.rows, *rest.rows)}) == 48


def test_a_consumer_reads_its_own_calls_whatever_it_asks_for(busy: Office) -> None:
    kayaks = busy.consumers[1]
    ferries = busy.consumers[0].member.own_consumer
    for asked in (
        EVERYTHING,
        CallFilter(consumer_id=ferries),
        CallFilter(subscription_id=busy.consumers[0].subscription),
    ):
        page = traffic.own_log(busy.acting(kayaks), asked)
        assert {row.consumer for row in page.rows} <= {"Kayaks"}
        assert page.total == (0 if asked.subscription_id else 3)


def test_figures_of_everybody_are_for_staff(busy: Office) -> None:
    for read in (traffic.recent, traffic.log):
        with pytest.raises(NotSignedIn):
            read(busy.acting(busy.consumers[0]), replace(EVERYTHING))
