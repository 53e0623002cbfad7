"""What lines open into: units by the provider's days, whatever its zone, are what the calls come to."""

from collections import Counter
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from random import Random
from zoneinfo import ZoneInfo

import pytest
from sqlalchemy import event

from calm_tariff.core.periods import day_start, instant_of, local_day
from calm_tariff.store.serve import local_days
from calm_tariff.store.serve.call_writer import record
from tests.office import START, Office

OCTOBER = date(2026, 10, 1), date(2026, 11, 1)
# Ahead and behind, by half a day and by what is no whole hour, with a clock that goes back or forward in October.
ZONES = [
    "UTC",
    "Europe/Lisbon",
    "America/New_York",
    "America/Asuncion",
    "Pacific/Auckland",
    "Pacific/Kiritimati",
    "Asia/Tokyo",
    "Asia/Kolkata",
]


@pytest.mark.parametrize("zone", ZONES)
def test_units_by_day_are_what_the_calls_of_the_day_counted(office: Office, zone: str) -> None:
    where, rnd = ZoneInfo(zone), Random(zone)
    ferries, other = office.consumers[:2]
    begin = datetime(2026, 9, 29, tzinfo=UTC)
    calls = [
        office.call(rnd.choice((ferries, ferries, other)), begin + timedelta(seconds=rnd.randrange(36 * 86_400)), n)
        for n in range(1500)
    ]
    edges = [day_start(OCTOBER[0] + timedelta(days=n), where) for n in range(32)]
    calls += [{**office.call(ferries, START, 5000 + n), "at_us": at - n % 2} for n, at in enumerate(edges * 2)]
    start, end = (day_start(day, where) for day in OCTOBER)
    wanted: dict[tuple[int, int], Counter[date]] = {}
    for call in calls:
        if start <= call["at_us"] < end and call["subscription_id"] != other.subscription:
            for meter, units in call["units"].items():
                key = call["stay_id"], int(meter)
                wanted.setdefault(key, Counter())[local_day(call["at_us"], where)] += int(units)
    with office.ctx.transaction() as session:
        record(session, calls, begin)
        found = local_days.units_by_day(session, start, end, [ferries.subscription], where)
    assert found == wanted and len(found[ferries.stay, office.meter]) == 31


@pytest.mark.parametrize("zone", ["Europe/Lisbon", "Asia/Kolkata"])
@pytest.mark.parametrize("hours", [9, 20, 24 * 5])
def test_a_stretch_that_ends_within_a_day_counts_no_more(office: Office, zone: str, hours: int) -> None:
    one, where = office.consumers[0], ZoneInfo(zone)
    moments = [START + timedelta(minutes=7 * n) for n in range(300)]
    end = START + timedelta(hours=hours)
    with office.ctx.transaction() as session:
        record(session, [office.call(one, m, n) for n, m in enumerate(moments)], START)
        of = session, instant_of(START), instant_of(end)
        found = local_days.units_by_day(*of, [one.subscription], where)
        assert local_days.units_by_day(*of, [], where) == {}
    assert found == {(one.stay, office.meter): Counter(m.astimezone(where).date() for m in moments if m < end)}


def test_days_of_nothing_are_not_there_and_one_statement_reads_both_sums(office: Office) -> None:
    """A call of 23:30 UTC is on the next day in Lisbon: its UTC day has nothing left, and is not shown."""
    one, where = office.consumers[0], ZoneInfo("Europe/Lisbon")
    start, end = (day_start(day, where) for day in OCTOBER)
    beside = datetime(2026, 9, 30, 22, 30, tzinfo=UTC), datetime(2026, 11, 1, tzinfo=UTC)
    with office.ctx.transaction() as session:
        record(session, [office.call(one, datetime(2026, 10, 7, 23, 30, tzinfo=UTC), 1)], START)
        # Just before the month and just after it: whoever called then alone is not there.
        record(session, [office.call(office.consumers[1], at, 5 + n) for n, at in enumerate(beside)], START)
    with office.ctx.transaction() as session:
        said: list[str] = []
        event.listen(session.connection(), "before_cursor_execute", lambda *of: said.append(of[2]))
        found = local_days.units_by_day(session, start, end, [c.subscription for c in office.consumers], where)
    assert found == {(one.stay, office.meter): {date(2026, 10, 8): Decimal(1)}}
    assert len(said) == 1
