"""The schema is what the tables say, and recorded calls are written once with exact sums."""

from datetime import datetime, timedelta
from decimal import Decimal
from zoneinfo import ZoneInfo

from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import Engine, select

from calm_tariff.core.periods import HOUR, instant_of
from calm_tariff.services import upkeep
from calm_tariff.store import call_queries, usage_queries
from calm_tariff.store.call_queries import CallFilter
from calm_tariff.store.call_writer import record
from calm_tariff.store.tables import metadata
from calm_tariff.store.usage import HourlyUsage
from tests.office import START, Office


def test_the_migrations_make_the_schema_the_tables_describe(migrated: Engine) -> None:
    with migrated.connect() as connection:
        context = MigrationContext.configure(connection, opts={"compare_type": True})
        differences = [d for d in compare_metadata(context, metadata) if d[0] not in ("remove_table",)]
    assert differences == []


def test_a_call_is_recorded_once_however_often_it_arrives(office: Office) -> None:
    one = office.consumers[0]
    calls = [office.call(one, START + timedelta(seconds=n), n) for n in range(50)]
    with office.ctx.transaction() as session:
        assert record(session, calls) == 50
    changed = [{**calls[0], "units": {str(office.meter): "9"}}, *calls[:20], office.call(one, START, 99)]
    with office.ctx.transaction() as session:
        assert record(session, changed) == 1
        assert sum(u.units for u in session.scalars(select(HourlyUsage))) == Decimal(51)
        assert call_queries.count(session, CallFilter()) == 51


def test_sums_over_ragged_stretches_are_exact(office: Office) -> None:
    one = office.consumers[0]
    moments = [START + timedelta(minutes=7 * n) for n in range(60)]
    with office.ctx.transaction() as session:
        record(session, [office.call(one, m, n) for n, m in enumerate(moments)])
    with office.ctx.transaction() as session:
        for begin, end in ((3, 200), (61, 62), (0, 420), (59, 61), (30, 30)):
            start, stop = (instant_of(START + timedelta(minutes=m)) for m in (begin, end))
            wanted = sum(start <= instant_of(m) < stop for m in moments)
            assert sum(usage_queries.units_by_stay(session, start, stop).values()) == wanted
        kolkata = ZoneInfo("Asia/Kolkata")  # midnight there is 18:30 UTC: no whole hour
        start, stop = instant_of(START), instant_of(START + timedelta(hours=9))
        by_day = {
            d.day.isoformat(): d.units
            for d in usage_queries.counted_by_day(session, start, stop, one.subscription, kolkata)
        }
        midnight = instant_of(datetime(2026, 9, 11, tzinfo=kolkata))
        first = sum(instant_of(m) < midnight for m in moments)
        assert by_day == {"2026-09-10": first, "2026-09-11": 60 - first}


def test_pages_of_the_log_join_without_gap_or_repeat(office: Office) -> None:
    one = office.consumers[0]
    with office.ctx.transaction() as session:
        # Many at the same instant: the cursor must still tell them apart.
        record(session, [office.call(one, START + timedelta(seconds=n // 10), n) for n in range(95)])
    seen: list[str] = []
    cursor = None
    with office.ctx.transaction() as session:
        while page := call_queries.page(session, CallFilter(), cursor, 20):
            seen += [c.call_id for c in page]
            cursor = page[-1].call_id
    assert len(seen) == len(set(seen)) == 95
    assert seen == sorted(seen, reverse=True)


def test_partitions_are_made_ahead_once_and_hold_what_was_there(office: Office) -> None:
    one = office.consumers[0]
    with office.ctx.transaction() as session:
        record(session, [office.call(one, START, 1)])
    made = upkeep.prepare_partitions(office.ctx, 2)
    assert set(made) <= {"p202609", "p202610", "p202611"}
    assert upkeep.prepare_partitions(office.ctx, 2) == []
    with office.ctx.transaction() as session:
        assert call_queries.count(session, CallFilter(since_us=instant_of(START) - HOUR)) == 1
