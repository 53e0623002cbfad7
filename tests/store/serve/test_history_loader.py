"""A history loaded at once leaves exactly the rows that recording it call by call leaves."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from typing import Any, cast

import pytest
from sqlalchemy import Engine, select

from calm_tariff.core.errors import Invalid
from calm_tariff.store.serve import history_loader
from calm_tariff.store.serve.call_writer import record
from calm_tariff.store.serve.usage import (
    Call,
    DailyAnswers,
    DailyUsage,
    DailyVerdicts,
    HourlyOutcomes,
    HourlyUsage,
    HourlyVerdicts,
    QuotaCount,
)
from tests.office import START, UNSAID, Office

TABLES = (Call, HourlyUsage, HourlyOutcomes, HourlyVerdicts, DailyUsage, DailyVerdicts, DailyAnswers, QuotaCount)
# What a file of rows could take for its own marks.
PATHS = ("/plain", "/tab\there", "/line\nbreak", "/return\r", "/back\\slash", "/\\N", '/quote"d', "/räksmörgås", "")


@pytest.fixture
def engine(office: Office) -> Engine:
    with office.ctx.transaction() as session:
        return cast(Engine, session.get_bind())


@pytest.fixture
def calls(office: Office) -> list[dict[str, Any]]:
    """Calls over two days of both consumers: served, failed and refused, with what their quotas counted."""
    refused = {"verdict": "refused", "refused_by": 'the\tquota\\of "Kayaks"\n', "status": 429, "units": {}}
    made = []
    for n in range(40):
        changes = refused if n % 7 == 3 else {"status": 502} if n % 7 == 5 else {"bytes_in": n}
        odd = {"path": PATHS[n % len(PATHS)], "told": {"Retry-After": PATHS[n % 5]}, "remarks": [PATHS[n % 7]]}
        call = office.call(office.consumers[n % 2], START + timedelta(hours=n), n, **changes)
        made.append({**UNSAID, **call, **odd})
    return office.counted(made)


def kept(office: Office) -> dict[str, list[str]]:
    """The rows of every table that calls are kept in."""
    with office.ctx.transaction() as session:
        return {
            table.__tablename__: sorted(repr(tuple(row)) for row in session.execute(select(table.__table__)))
            for table in TABLES
        }


def emptied(office: Office) -> None:
    with office.ctx.transaction() as session:
        for table in TABLES:
            session.query(table).delete()


@pytest.mark.parametrize("batch", [1, 7, 40, 10_000])
def test_rows_are_those_of_recording(
    office: Office, engine: Engine, calls: list[dict[str, Any]], monkeypatch: pytest.MonkeyPatch, batch: int
) -> None:
    with office.ctx.transaction() as session:
        assert record(session, calls, START) == 40
    recorded = kept(office)
    assert all(recorded.values())  # a table that stays empty would show nothing
    emptied(office)
    monkeypatch.setattr(history_loader, "BATCH", batch)
    heard: list[int] = []
    assert history_loader.load(engine, iter(calls), heard.append) == 40
    assert kept(office) == recorded
    assert heard == [*range(batch, 40, batch), 40]


def test_no_calls_leave_nothing(office: Office, engine: Engine) -> None:
    assert history_loader.load(engine, []) == 0
    assert not any(kept(office).values())


def test_what_fails_midway_leaves_nothing(
    office: Office, engine: Engine, calls: list[dict[str, Any]], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(history_loader, "BATCH", 5)

    def broken() -> Iterator[dict[str, Any]]:
        yield from calls[:23]
        raise ValueError("the source ends here")

    with pytest.raises(ValueError, match="the source ends here"):
        history_loader.load(engine, broken())
    assert not any(kept(office).values())
    with pytest.raises(Invalid, match="a row of call as it is: Data truncated for column 'path'"):
        history_loader.load(engine, [*calls[:12], {**calls[12], "path": "/" * 401}, *calls[13:]])
    assert not any(kept(office).values())


def test_a_call_that_is_there_twice_would_be_in_the_sums_twice_and_is_refused(
    office: Office, engine: Engine, calls: list[dict[str, Any]]
) -> None:
    with pytest.raises(Invalid, match=f"Duplicate entry '{calls[0]['call_id']}"):
        history_loader.load(engine, [*calls, calls[0]])
    assert not any(kept(office).values())


def test_histories_loaded_at_once_add_up_where_they_share_a_sum(
    office: Office, engine: Engine, calls: list[dict[str, Any]]
) -> None:
    with office.ctx.transaction() as session:
        record(session, calls, START)
    recorded = kept(office)
    emptied(office)
    parts = [[c for c in calls if c["consumer_id"] == one.member.consumer_id] for one in office.consumers]
    with ThreadPoolExecutor(2) as both:
        assert sum(both.map(lambda part: history_loader.load(engine, part), parts)) == len(calls)
    assert kept(office) == recorded
