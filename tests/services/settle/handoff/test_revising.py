"""What is made of each hour: once it is due, once, and the difference for what comes, or goes, later."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from decimal import Decimal

import pytest
from sqlalchemy import select, text

from calm_tariff.services.base.context import provider_of
from calm_tariff.services.serve import history
from calm_tariff.services.settle.handoff import revising
from calm_tariff.store.settle.handoff import HandedUnits
from tests.office import START, Office, terms
from tests.services.months import at_once, record
from tests.services.settle.documents.recorded import arrive, lose
from tests.services.settle.handoff.outside import Outside, later, total


def test_an_hour_is_told_of_once_it_is_due(office: Office, outside: Outside) -> None:
    record(office, 90)  # 60 from noon on, 30 from one
    office.clock.now = datetime(2026, 9, 10, 13, 9, 59, tzinfo=UTC)
    assert outside.look() == datetime(2026, 9, 10, 13, 10, tzinfo=UTC)
    assert outside.events() == []
    later(office, seconds=1)
    assert outside.look() == datetime(2026, 9, 10, 14, 10, tzinfo=UTC)
    (event,) = outside.events()
    assert (event.units, event.revision, event.state, event.consumer) == (60, 1, "waiting", "Ferries")
    assert event.event_id == f"2026-09-10T12:00Z/{office.consumers[0].subscription}/{office.meter}/1"
    assert event.plan == "Harbour Data · Ketch" and event.trial is False
    later(office, hours=1)
    outside.look()
    assert [each.units for each in outside.events()] == [60, 30]
    outside.agrees()


def test_what_comes_later_is_told_as_the_difference(office: Office, outside: Outside) -> None:
    record(office, 10)
    later(office, hours=2)
    outside.look()
    arrive(office, 3, 100)
    outside.look()
    outside.look()  # a second look finds nothing more
    assert [(each.revision, each.units) for each in outside.events()] == [(1, 10), (2, 3)]
    lose(office, 5)
    outside.look()
    assert [(each.revision, each.units) for each in outside.events()] == [(1, 10), (2, 3), (3, -5)]
    outside.agrees()


def test_what_comes_for_days_long_past_is_found_by_the_sums_of_days(office: Office, outside: Outside) -> None:
    record(office, 10)
    later(office, days=12)
    outside.look()
    arrive(office, 4, 100)
    outside.look()
    assert [(each.revision, each.units) for each in outside.events()] == [(1, 10), (2, 4)]
    outside.agrees()


def test_what_comes_and_goes_on_one_past_day_is_found_by_the_daily_look(office: Office, outside: Outside) -> None:
    record(office, 10)
    record(office, 10, START + timedelta(hours=3), tail=50)
    later(office, days=12)
    outside.look()
    arrive(office, 5, 100, START + timedelta(hours=3))
    lose(office, 5)  # the earliest: the day's sum stays, its hours do not
    outside.look()
    assert len(outside.events()) == 2
    outside.look(everywhere=True)
    assert [each.units for each in outside.events()] == [10, 10, -5, 5]
    outside.agrees()


def test_what_is_billed_here_is_not_handed_on(office: Office) -> None:
    outside = Outside(office, since=date(2026, 10, 1))
    record(office, 10, datetime(2026, 9, 30, 21, 55, tzinfo=UTC))
    record(office, 10, datetime(2026, 9, 30, 22, 55, tzinfo=UTC), tail=50)  # five of September, five of October
    office.clock.now = datetime(2026, 10, 1, 12, tzinfo=UTC)
    outside.look(everywhere=True)
    assert [each.hour_us for each in outside.events()] == [1790809200 * 1_000_000]
    assert total(outside.events()) == 5


@pytest.mark.parametrize("place", ["Asia/Kolkata", "Asia/Kathmandu"])
def test_a_month_that_begins_within_an_hour_hands_on_its_part_of_it(office: Office, place: str) -> None:
    with office.ctx.transaction() as session:
        provider_of(session).time_zone = place
    outside = Outside(office, since=date(2026, 10, 1))
    begins = {"Asia/Kolkata": (18, 30), "Asia/Kathmandu": (18, 15)}[place]
    first = datetime(2026, 9, 30, *begins, tzinfo=UTC)
    record(office, 8, first - timedelta(minutes=5))  # five of September, three of October, all of one hour
    office.clock.now = first + timedelta(days=2)
    outside.look()
    (event,) = outside.events()
    assert (event.units, event.hour_us) == (3, int(first.replace(minute=0).timestamp()) * 1_000_000)
    (row,) = outside.sums(date(2026, 10, 1), ask=False)
    assert (row.recorded, row.waiting, row.to_come) == (3, 3, 0)
    arrive(office, 2, 100, first + timedelta(minutes=10))
    outside.look()
    assert [each.units for each in outside.events()] == [3, 2]


def test_each_hour_knows_the_plan_that_it_ended_under(office: Office, outside: Outside) -> None:
    office.draft("Ketch", {**terms(), "trial": {"days": 5}})
    office.publish("keep")
    third = office.admit("Skippers", "Ketch")
    history.take_in(office.ctx, [office.call(third, START + timedelta(days=n), n) for n in (1, 6)])
    later(office, days=8)
    outside.look()
    assert [(each.trial, each.plan) for each in outside.events()] == [
        (True, "Harbour Data · Ketch"),
        (False, "Harbour Data · Ketch"),
    ]


def test_two_that_look_at_once_tell_nothing_twice(office: Office, outside: Outside) -> None:
    record(office, 200)
    later(office, hours=6)

    at_once(office.ctx, lambda _: outside.look(), 6)
    outside.look()
    outside.agrees()
    assert total(outside.events()) == 200


def test_an_installation_that_bills_nothing_outside_looks_at_nothing(office: Office) -> None:
    record(office, 5)
    later(office, hours=3)
    assert revising.look(office.ctx) > office.clock.now
    with office.ctx.transaction() as session:
        assert session.scalars(select(HandedUnits)).all() == []
        assert session.execute(text("select count(*) from job where kind = 'hand usage on'")).scalar() == 0


def test_what_was_told_stays_whole_whatever_comes_and_goes(office: Office, outside: Outside) -> None:
    outside.map()
    later(office, hours=30)
    for n in range(6):
        arrive(office, 4 + n, 100 * n, START + timedelta(hours=5 * (n % 3)))
        if n % 2:
            lose(office, 3)
        outside.hand_on()
        outside.agrees()
    assert sum((each.units for each in outside.events()), Decimal(0)) == sum(range(4, 10)) - 9
