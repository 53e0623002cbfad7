"""A call is recorded once."""

from datetime import timedelta
from decimal import Decimal

from sqlalchemy import select

from calm_tariff.services.serve import set_aside
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
