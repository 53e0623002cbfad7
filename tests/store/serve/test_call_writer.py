"""A call is recorded once."""

from datetime import timedelta
from decimal import Decimal

from sqlalchemy import select

from calm_tariff.services.serve import set_aside
from calm_tariff.store.admit.applications import ApiKeyUse
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.serve import call_queries
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.serve.call_writer import record
from calm_tariff.store.serve.usage import DailyUsage, HourlyUsage
from tests.office import START, Office


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


def used(office: Office) -> dict[int, tuple[int, str]]:
    with office.ctx.transaction() as session:
        return {use.key_id: (use.last_at_us, use.address) for use in session.scalars(select(ApiKeyUse))}


def test_the_last_use_of_a_key_is_kept_whatever_order_its_calls_come_in(office: Office) -> None:
    one, other = office.consumers
    calls = [
        {**office.call(who, START + timedelta(seconds=n), n), "sent": {"address": f"192.0.2.{n}"}}
        for n, who in enumerate((one, other, one, one))
    ]
    unknown = {**office.call(one, START + timedelta(seconds=9), 9), "key_id": None}
    expected = {one.key: (calls[3]["at_us"], "192.0.2.3"), other.key: (calls[1]["at_us"], "192.0.2.1")}
    for part in ([calls[3], calls[0]], [calls[2], unknown], [calls[1]], calls):
        with office.ctx.transaction() as session:
            record(session, part, START)
    assert used(office) == expected


def test_bodies_are_kept_once_and_set_nothing_aside(office: Office) -> None:
    body = {"type": "text/plain", "size": 2, "cut": False, "encoding": "", "text": "ab"}
    call = office.call(office.consumers[0], START, 1)
    for text in ("ab", "other"):  # a segment that is met again says the same; what says otherwise changes nothing
        with office.ctx.transaction() as session:
            record(session, [{**call, "bodies": {"answered": {**body, "text": text}}}], START)
    with office.ctx.transaction() as session:
        kept = call_queries.bodies(session, call["call_id"])
        assert kept is not None and (kept.sent, kept.answered["text"]) == (None, "ab")
        assert call_queries.forget_bodies(session, call["at_us"], 10) == 0
        assert call_queries.forget_bodies(session, call["at_us"] + 1, 10) == 1
        assert call_queries.bodies(session, call["call_id"]) is None
    assert set_aside.listed(office.manager, PageQuery()).total == 0
