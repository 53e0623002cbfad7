"""Sums of usage are what the calls come to."""

from datetime import timedelta
from random import Random

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
