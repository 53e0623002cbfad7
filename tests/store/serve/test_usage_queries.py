"""Sums of usage are what the calls come to."""

from datetime import date, datetime, timedelta
from random import Random
from zoneinfo import ZoneInfo

from calm_tariff.core.periods import HOUR, instant_of
from calm_tariff.store.serve import call_queries, usage_queries
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.serve.call_writer import record
from tests.office import START, Office


def test_what_the_sums_tell_is_what_the_calls_tell(office: Office) -> None:
    rnd = Random(7)
    ferries, kayaks = office.consumers[:2]
    calls = []
    for n in range(400):
        call = office.call(rnd.choice((ferries, kayaks)), START + timedelta(seconds=rnd.randrange(5 * 86_400)), n)
        verdict = rnd.choice(("served", "served", "held", "refused"))
        calls.append({**call, "verdict": verdict, **({"units": {}} if verdict == "refused" else {})})
    calls[0] |= {"consumer_id": None, "verdict": "refused", "units": {}}  # nobody known called
    with office.ctx.transaction() as session:
        record(session, calls, START)
        for _ in range(60):
            start, stop = sorted(instant_of(START) + rnd.randrange(5 * 24 * HOUR) for _ in range(2))
            for verdict in (None, "served", "refused"):
                consumer = rnd.choice((None, calls[1]["consumer_id"], calls[2]["consumer_id"]))
                wanted = CallFilter(verdict, consumer, since_us=start, until_us=rnd.choice((stop, None)))
                until = wanted.until_us or 2**62
                assert call_queries.count(session, wanted) == sum(
                    start <= c["at_us"] < until
                    and verdict in (None, c["verdict"])
                    and consumer in (None, c["consumer_id"])
                    for c in calls
                )
            counted = usage_queries.units_by_subscription(session, start, stop)
            assert sum(counted.values()) == sum(len(c["units"]) for c in calls if start <= c["at_us"] < stop)


def test_sums_over_ragged_stretches_are_exact(office: Office) -> None:
    one = office.consumers[0]
    moments = [START + timedelta(minutes=7 * n) for n in range(60)]
    with office.ctx.transaction() as session:
        record(session, [office.call(one, m, n) for n, m in enumerate(moments)], START)
    with office.ctx.transaction() as session:
        for begin, end in ((3, 200), (61, 62), (0, 420), (59, 61), (30, 30)):
            start, stop = (instant_of(START + timedelta(minutes=m)) for m in (begin, end))
            wanted = sum(start <= instant_of(m) < stop for m in moments)
            assert sum(usage_queries.units_by_stay(session, start, stop).values()) == wanted
        kolkata = ZoneInfo("Asia/Kolkata")  # midnight there is 18:30 UTC: no whole hour
        start, stop = instant_of(START), instant_of(START + timedelta(hours=9))
        for where, end in ((kolkata, stop), (ZoneInfo("Europe/Lisbon"), instant_of(START + timedelta(hours=20)))):
            days = usage_queries.units_by_day(session, start, end, [one.subscription], where)
            midnight = instant_of(datetime(2026, 9, 11, tzinfo=where))
            first = sum(instant_of(m) < midnight for m in moments)
            assert days == {
                (one.stay, office.meter): {date(2026, 9, 10): first, date(2026, 9, 11): 60 - first}
                if first < 60
                else {date(2026, 9, 10): 60}
            }
        assert usage_queries.units_by_day(session, start, stop, [], kolkata) == {}
