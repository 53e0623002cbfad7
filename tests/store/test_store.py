"""The schema is what the tables say, and recorded calls are written once with exact sums."""

from datetime import date, datetime, timedelta
from decimal import Decimal
from random import Random
from zoneinfo import ZoneInfo

from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import Engine, select

from calm_tariff.core.periods import HOUR, instant_of
from calm_tariff.services.serve import gateway_feed, set_aside, upkeep
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.serve import call_queries, usage_queries
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.serve.call_writer import record
from calm_tariff.store.serve.usage import DailyUsage, HourlyUsage
from calm_tariff.store.tables import metadata
from tests.office import START, Office


def test_the_migrations_make_the_schema_the_tables_describe(migrated: Engine) -> None:
    with migrated.connect() as connection:
        context = MigrationContext.configure(connection, opts={"compare_type": True})
        differences = [d for d in compare_metadata(context, metadata) if d[0] not in ("remove_table",)]
    assert differences == []


def test_a_call_is_recorded_once_and_a_repeat_that_differs_is_set_aside(office: Office) -> None:
    one = office.consumers[0]
    calls = [office.call(one, START + timedelta(seconds=n), n) for n in range(50)]
    with office.ctx.transaction() as session:
        assert record(session, calls, START) == 50
    first, second, third = (c["call_id"] for c in calls[:3])
    changed = {**calls[0], "units": {str(office.meter): "9"}}
    later = {**calls[1], "at_us": calls[1]["at_us"] + 60 * 86_400_000_000}  # in another month's partition
    said = {"call_id": third, "source": calls[2]["source"], "status": 503, "bytes_in": calls[2]["bytes_in"]}
    new = office.call(one, START, 99)
    twice = {**new, "status": 404}
    with office.ctx.transaction() as session:
        assert record(session, [changed, *calls[:20], later, said, new, twice], START) == 1
    with office.ctx.transaction() as session:
        assert record(session, [changed, later, said, twice, *calls], START) == 0  # nor is anything set aside again
        assert sum(u.units for u in session.scalars(select(HourlyUsage))) == Decimal(51)
        assert sum(u.units for u in session.scalars(select(DailyUsage))) == Decimal(51)
        assert call_queries.count(session, CallFilter()) == 51
    page = set_aside.listed(office.manager, PageQuery(down=True))
    assert [(s.call_id, s.differs) for s in page.rows] == [
        (first, [f"units: {calls[0]['units']} recorded, {changed['units']} repeated"]),
        (second, ["at: 2026-09-10T12:00:01+00:00 recorded, 2026-11-09T12:00:01+00:00 repeated"]),
        (third, ["status: 200 recorded, 503 repeated"]),
        (new["call_id"], ["status: 200 recorded, 404 repeated"]),
    ]


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


def test_pages_of_the_log_join_without_gap_or_repeat(office: Office) -> None:
    one = office.consumers[0]
    with office.ctx.transaction() as session:
        # Many at the same instant: the cursor must still tell them apart.
        record(session, [office.call(one, START + timedelta(seconds=n // 10), n) for n in range(95)], START)
    seen: list[str] = []
    cursor = None
    with office.ctx.transaction() as session:
        while page := call_queries.page(session, CallFilter(), cursor, 20):
            seen += [c.call_id for c in page]
            cursor = page[-1].call_id
    assert len(seen) == len(set(seen)) == 95
    assert seen == sorted(seen, reverse=True)


def test_what_is_replayed_misses_no_call_of_an_instant_that_a_chunk_ends_in(office: Office) -> None:
    one = office.consumers[0]
    calls = [office.call(one, START + timedelta(seconds=n // 10), n) for n in range(60)]
    refused = {**office.call(one, START, 99), "verdict": "refused", "units": {}}
    with office.ctx.transaction() as session:
        record(session, [*calls, refused], START)
    for at_once in (1, 4, 10, 59, 60, 100):
        replayed = [c.call_id for c in gateway_feed.calls_since(office.ctx, instant_of(START), at_once)]
        assert replayed == [c["call_id"] for c in calls]
    later = gateway_feed.calls_since(office.ctx, instant_of(START) + 3_000_000)
    assert [c.call_id for c in later] == [c["call_id"] for c in calls[30:]]


def test_partitions_are_made_ahead_once_and_hold_what_was_there(office: Office) -> None:
    one = office.consumers[0]
    with office.ctx.transaction() as session:
        record(session, [office.call(one, START, 1)], START)
    made = upkeep.prepare_partitions(office.ctx, 2)
    assert set(made) <= {"p202609", "p202610", "p202611"}
    assert upkeep.prepare_partitions(office.ctx, 2) == []
    with office.ctx.transaction() as session:
        assert call_queries.count(session, CallFilter(since_us=instant_of(START) - HOUR)) == 1
