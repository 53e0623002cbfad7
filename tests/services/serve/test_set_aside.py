"""A call told again with something else of it: shown with what differs, and counting nothing."""

from __future__ import annotations

from datetime import timedelta

import pytest

from calm_tariff.core.errors import NotSignedIn
from calm_tariff.services.serve import history, set_aside
from calm_tariff.services.settle.periods import periods
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.serve.call_writer import record
from tests.office import START, Office


def repeat(office: Office, *changes: dict) -> list[str]:
    """Calls as first recorded, each told again with a change; their ids."""
    calls = [office.call(office.consumers[0], START + timedelta(minutes=n), n) for n in range(len(changes))]
    history.take_in(office.ctx, calls)
    with office.ctx.transaction() as session:
        record(session, [{**call, **change} for call, change in zip(calls, changes, strict=True)], office.ctx.now)
    return [call["call_id"] for call in calls]


def test_what_differs_is_said_in_words_with_both_figures(office: Office) -> None:
    (call,) = repeat(office, {"took_us": 1_500_000, "status": 503, "key_id": None})
    (shown,) = set_aside.listed(office.manager, PageQuery()).rows
    assert (shown.call_id, shown.source, shown.seen_at) == (call, "test", office.ctx.now)
    assert sorted(shown.differs) == [
        f"key: {office.consumers[0].key} recorded, nothing repeated",
        "status: 200 recorded, 503 repeated",
        "took: 0.9 ms recorded, 1500 ms repeated",
    ]


def test_a_repeat_that_says_the_same_is_none(office: Office) -> None:
    repeat(office, {}, {})
    assert set_aside.listed(office.manager, PageQuery()).total == 0


def test_what_was_set_aside_is_charged_to_nobody(office: Office) -> None:
    repeat(office, *[{"units": {str(office.meter): "1000"}}] * 3)
    charges = periods.charges(office.finance, START.date().replace(day=1), PageQuery(rows=10)).rows
    once = {c.consumer: c.charge for c in charges}
    assert set_aside.listed(office.manager, PageQuery()).total == 3
    assert once["Ferries"] == once["Kayaks"]  # three calls are within what is included


def test_words_are_the_beginning_of_an_id_and_no_pattern(office: Office) -> None:
    first, second = repeat(office, {"status": 500}, {"status": 501})
    assert [s.call_id for s in set_aside.listed(office.manager, PageQuery()).rows] == [second, first]
    assert [s.call_id for s in set_aside.listed(office.manager, PageQuery(words=first[:14])).rows] == [first]
    assert set_aside.listed(office.manager, PageQuery(words="%")).total == 0


def test_no_consumer_sees_it(office: Office) -> None:
    with pytest.raises(NotSignedIn):
        set_aside.listed(office.acting(office.consumers[0]), PageQuery())
