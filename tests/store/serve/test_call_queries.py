"""The log of calls, by pages and for replays."""

import random
from datetime import timedelta

import pytest

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


@pytest.mark.parametrize("seed", range(6))
def test_a_page_of_few_among_many_is_what_is_found_by_reading_them_all(office: Office, seed: int) -> None:
    chance = random.Random(seed)
    one = office.consumers[0]
    calls = []
    for n in range(300):
        refused = chance.random() < 0.1
        calls.append(
            office.call(
                office.consumers[chance.random() < 0.2],
                START + timedelta(minutes=chance.randrange(0, 4000)),
                n,
                status=429 if refused else chance.choice([200, 200, 404]),
                verdict="refused" if refused else chance.choice(["served", "held"]),
                refused_by=chance.choice(["Rate", "Pace"]) if refused else None,
                environment=chance.choice(["live", "sandbox"]),
                units={},
            )
        )
    with office.ctx.transaction() as session:
        record(session, calls, START)
    first = instant_of(START)
    for _ in range(25):
        wanted = CallFilter(
            consumer_id=one.member.consumer_id,
            verdict=chance.choice([None, "refused", "held"]),
            environment=chance.choice([None, "live", "sandbox"]),
            status=chance.choice([None, 404, 429]),
            refused_by=chance.choice([None, None, "Rate"]),
            since_us=chance.choice([None, first + chance.randrange(0, 4000) * 60_000_000]),
            until_us=chance.choice([None, first + chance.randrange(0, 4000) * 60_000_000]),
        )
        names = ("verdict", "environment", "status", "refused_by", "consumer_id")
        meant = [
            c
            for c in calls
            if all(getattr(wanted, name) in (None, c[name]) for name in names)
            and (wanted.since_us is None or c["at_us"] >= wanted.since_us)
            and (wanted.until_us is None or c["at_us"] < wanted.until_us)
        ]
        expected = [c["call_id"] for c in sorted(meant, key=lambda c: (c["at_us"], c["call_id"]), reverse=True)]
        seen: list[str] = []
        with office.ctx.transaction() as session:
            assert call_queries.count(session, wanted) == len(expected)
            while page := call_queries.page(session, wanted, seen[-1] if seen else None, 7):
                seen += [c.call_id for c in page]
        assert seen == expected
