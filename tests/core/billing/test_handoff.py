"""What is told of each hour comes to what is recorded of it, in whichever order that arrives, and however often it is
looked at."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from decimal import Decimal

from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.billing.handoff import Told, UsageHour, due_until, event_id, next_due, revisions
from calm_tariff.core.periods import HOUR, MINUTE, instant_of

NOON = instant_of(datetime(2026, 9, 10, 12, tzinfo=UTC))
hours = st.builds(UsageHour, st.integers(0, 3).map(lambda n: NOON + n * HOUR), st.integers(1, 2), st.integers(7, 8))
units = st.decimals(-50, 50, places=6)
arrivals = st.lists(st.lists(st.tuples(hours, units), max_size=5), max_size=8)


def test_an_hour_is_due_ten_minutes_after_its_end() -> None:
    assert due_until(NOON + 10 * MINUTE - 1) == NOON - HOUR
    assert due_until(NOON + 10 * MINUTE) == NOON
    assert next_due(NOON + 10 * MINUTE - 1) == NOON + 10 * MINUTE
    assert next_due(NOON + 10 * MINUTE) == NOON + HOUR + 10 * MINUTE


@given(arrivals)
def test_whatever_arrives_and_in_whichever_order_what_was_told_comes_to_what_is_recorded(
    looks: list[list[tuple[UsageHour, Decimal]]],
) -> None:
    recorded: dict[UsageHour, Decimal] = {}
    told: dict[UsageHour, Told] = {}
    ids: list[str] = []
    for arrived in looks:
        for of, more in arrived:
            recorded[of] = recorded.get(of, Decimal(0)) + more
        for of, number, more in revisions(recorded, told):
            before = told.get(of, Told(0, Decimal(0)))
            assert number == before.revision + 1 and more != 0
            told[of] = Told(number, before.units + more)
            ids.append(event_id(of, number))
        assert revisions(recorded, told) == []
    assert {of: total for of, (_, total) in told.items() if total} == {of: n for of, n in recorded.items() if n}
    assert len(set(ids)) == len(ids)


def test_what_is_recorded_no_more_is_taken_back() -> None:
    of = UsageHour(NOON, 1, 7)
    (only,) = revisions({}, {of: Told(2, Decimal("1.5"))})
    assert only == (of, 3, Decimal("-1.5"))


def test_an_event_is_known_by_its_hour_subscription_meter_and_revision() -> None:
    of = UsageHour(instant_of(datetime(2026, 9, 10, 23, tzinfo=UTC) + timedelta(hours=1)), 41, 7)
    assert event_id(of, 1) == "2026-09-11T00:00Z/41/7/1"
