"""The log of calls, by pages and for replays."""

from datetime import timedelta

from calm_tariff.core.periods import instant_of
from calm_tariff.services.serve import replaying
from calm_tariff.store.serve import call_queries
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.serve.call_writer import record
from tests.office import START, Office


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
        replayed = [c.call_id for c in replaying.calls_since(office.ctx, instant_of(START), at_once)]
        assert replayed == [c["call_id"] for c in calls]
    later = replaying.calls_since(office.ctx, instant_of(START) + 3_000_000)
    assert [c.call_id for c in later] == [c["call_id"] for c in calls[30:]]
