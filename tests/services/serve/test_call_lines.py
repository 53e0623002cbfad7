"""Recorded calls as lines of the log."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import select

from calm_tariff.services.serve import call_lines, history
from calm_tariff.store.serve.usage import Call
from tests.office import START, Office
from tests.services.queries import asked


def test_things_are_told_by_name_and_what_is_not_known_is_told_as_it_came(office: Office) -> None:
    one = office.consumers[0]
    unknown = {"operation_id": None, "application_id": None, "consumer_id": None, "units": {}}
    calls = [
        office.call(one, START, 1, wait_us=5),
        office.call(one, START + timedelta(seconds=1), 2, verdict="refused", refused_by="Rate", status=429, units={}),
        office.call(one, START + timedelta(seconds=2), 3, verdict="refused", refused_by="route", status=404, **unknown),
    ]
    history.take_in(office.ctx, calls)
    with office.ctx.transaction() as session:
        served, refused, astray = call_lines.lines(session, list(session.scalars(select(Call).order_by(Call.at_us))))
    assert (served.operation, served.consumer, served.application) == ("GET /stations/{id}", "Ferries", "Ferries app")
    assert (served.at, served.status, served.wait_us, served.refused_by) == (START, 200, 5, None)
    assert (refused.verdict, refused.refused_by, refused.status) == ("refused", "Rate", 429)
    assert (astray.operation, astray.consumer, astray.application) == ("GET /tides/v1/stations/x", "", "")
    assert astray.consumer_id is None


def test_a_log_of_many_asks_the_database_no_more_often(office: Office) -> None:
    found = []
    for count in (2, 40):
        calls = [office.call(office.consumers[n % 2], START + timedelta(seconds=n), n) for n in range(count)]
        history.take_in(office.ctx, calls)
        with office.ctx.transaction() as session:
            recorded = list(session.scalars(select(Call)))
            with asked(office.ctx) as statements:
                call_lines.lines(session, recorded)
            found.append(len(statements))
    assert found[0] == found[1]
