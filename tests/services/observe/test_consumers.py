"""Consumers as the staff see them: figures that are those of the calls and of the charge."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from decimal import Decimal

import pytest

from calm_tariff.core.errors import NotFound, NotSignedIn
from calm_tariff.services.base.context import NOBODY
from calm_tariff.services.observe import consumers
from calm_tariff.services.serve import history
from calm_tariff.services.settle.periods import charging, periods
from calm_tariff.store.base.paging import PageQuery
from tests.office import START, Office
from tests.services.base.test_own_notices import pause


def calls(office: Office, of: int, count: int, since: datetime = START, **changes: object) -> None:
    one = office.consumers[of]
    tail = 1000 * of + (500 if changes else 0)
    made = [office.call(one, since + timedelta(minutes=n), tail + n, **changes) for n in range(count)]
    history.take_in(office.ctx, office.counted(made))


REFUSED = {"verdict": "refused", "refused_by": "Rate", "status": 429, "units": {}}


def test_the_list_and_the_page_tell_the_same_calls_and_plans(office: Office) -> None:
    calls(office, 0, 5)
    calls(office, 0, 3, START + timedelta(hours=1), **REFUSED)
    calls(office, 1, 2)
    calls(office, 1, 2, START - timedelta(days=28))  # before the days that are told
    office.clock.forward(hours=2)
    found = {line.name: line for line in consumers.listed(office.manager, PageQuery()).rows}
    assert {name: (line.served, line.refused) for name, line in found.items()} == {"Ferries": (5, 3), "Kayaks": (2, 0)}
    for line in found.values():
        shown = consumers.one(office.manager, line.id)
        assert shown.line == line
    assert found["Ferries"].plans == ["Harbour Data · Ketch"]
    pause(office)  # which leaves it on its plan
    assert consumers.listed(office.manager, PageQuery(words="fer")).rows[0].plans == ["Harbour Data · Ketch"]
    assert consumers.listed(office.manager, PageQuery(words="kay")).total == 1


def test_the_running_charge_is_what_the_charge_run_will_say(office: Office) -> None:
    calls(office, 0, 25)
    office.clock.now = datetime(2026, 9, 30, 22, tzinfo=UTC)
    running = consumers.one(office.finance, office.consumers[0].member.consumer_id or 0)
    office.clock.now = datetime(2026, 10, 2, tzinfo=UTC)
    charging.run(office.finance, date(2026, 9, 1))
    charges = {c.consumer: c.charge for c in periods.charges(office.finance, date(2026, 9, 1), PageQuery()).rows}
    assert running.running == charges["Ferries"] > Decimal(0)
    assert running.currency == "EUR"


def test_everything_of_one_is_of_that_one(office: Office) -> None:
    calls(office, 0, 5)
    calls(office, 1, 7)
    for place, name in enumerate(("Ferries", "Kayaks")):
        shown = consumers.one(office.manager, office.consumers[place].member.consumer_id or 0)
        assert [m.email for m in shown.members] == [office.consumers[place].email]
        assert [a.name for a in shown.applications] == [f"{name} app"]
        assert {gauge.consumer for gauge in shown.gauges} == {name}
        assert [gauge.used for gauge in shown.gauges] == [Decimal((5, 7)[place])]


def test_it_is_for_the_staff_and_one_that_is_not_there_is_told(office: Office) -> None:
    own = office.consumers[0]
    for other in (office.acting(own), office.ctx.acting(NOBODY)):
        with pytest.raises(NotSignedIn):
            consumers.listed(other, PageQuery())
        with pytest.raises(NotSignedIn):
            consumers.one(other, own.member.consumer_id or 0)
    with pytest.raises(NotFound, match="no such consumer"):
        consumers.one(office.manager, 999_999)
