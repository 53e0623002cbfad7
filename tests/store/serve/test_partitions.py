"""Calls lie in partitions by month."""

from calm_tariff.core.periods import HOUR, instant_of
from calm_tariff.services.serve import upkeep
from calm_tariff.store.serve import call_queries
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.serve.call_writer import record
from tests.office import START, Office


def test_partitions_are_made_ahead_once_and_hold_what_was_there(office: Office) -> None:
    one = office.consumers[0]
    with office.ctx.transaction() as session:
        record(session, [office.call(one, START, 1)], START)
    made = upkeep.prepare_partitions(office.ctx, 2)
    assert set(made) <= {"p202609", "p202610", "p202611"}
    assert upkeep.prepare_partitions(office.ctx, 2) == []
    with office.ctx.transaction() as session:
        assert call_queries.count(session, CallFilter(since_us=instant_of(START) - HOUR)) == 1
