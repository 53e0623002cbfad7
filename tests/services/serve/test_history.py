"""Recorded calls from elsewhere than a journal: each once, all of a history or nothing."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict
from calm_tariff.services.serve import history
from calm_tariff.store.serve.usage import Call, HourlyUsage
from tests.office import START, Office

# What a file of rows could take for its own marks.
PATHS = ("/plain", "/tab\there", "/line\nbreak", "/back\\slash", "/\\N", '/quote"d', "/räksmörgås")


def some(office: Office, count: int = 20) -> list[dict[str, Any]]:
    one = office.consumers[0]
    return [
        office.call(one, START + timedelta(minutes=n), n, path=PATHS[n % len(PATHS)], told={"Retry-After": "\t\\n"})
        for n in range(count)
    ]


def whole(office: Office) -> list[dict[str, Any]]:
    """The same with every column."""
    numbers = dict.fromkeys(("decide_us", "back_end_us", "reserved", "decided_us", "decided_order"), 0)
    said: dict[str, Any] = {"credential": "key", "carried": {}, "remarks": [], "counted": {}, "reported": {}}
    return [{**numbers, **said, **call} for call in some(office)]


def kept(office: Office) -> tuple[list[tuple], list[tuple]]:
    """Every call and every hourly sum, but for when it was taken in."""
    tables: list[list[tuple]] = []
    with office.ctx.transaction() as session:
        for table in (Call, HourlyUsage):
            columns = [c for c in table.__table__.columns if c.name not in ("received_at", "recorded_at")]
            tables.append(sorted(map(repr, session.execute(select(*columns)))))  # type: ignore[arg-type]
    return tables[0], tables[1]


def test_what_is_taken_in_twice_is_there_once(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(history, "BATCH", 7)
    assert history.take_in(office.ctx, iter(some(office))) == 20
    once = kept(office)
    assert history.take_in(office.ctx, some(office, 23)) == 3
    assert history.take_in(office.ctx, some(office)) == 0
    assert len(kept(office)[0]) == 23 and set(once[0]) <= set(kept(office)[0])


def test_a_history_loaded_at_once_is_the_same_as_one_taken_in(office: Office) -> None:
    with pytest.raises(ZeroDivisionError):  # all of it, or nothing
        history.begin_with(office.ctx, (c if n < 15 else 1 / 0 for n, c in enumerate(whole(office))), lambda done: None)
    assert kept(office) == ([], [])
    history.refuse_second(office.ctx)
    history.take_in(office.ctx, some(office))
    taken_in = kept(office)
    assert len(taken_in[0]) == 20 and taken_in[1]
    with office.ctx.transaction() as session:
        session.query(Call).delete()
        session.query(HourlyUsage).delete()
    heard: list[int] = []
    assert history.begin_with(office.ctx, whole(office), heard.append) == 20 == heard[-1]
    assert kept(office) == taken_in


def test_a_second_history_is_refused_once_a_call_is_recorded(office: Office) -> None:
    history.take_in(office.ctx, some(office, 1))
    with pytest.raises(Conflict, match="recorded here already"):
        history.refuse_second(office.ctx)
