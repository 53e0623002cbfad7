"""Where an estimate begins for who is there already: last month's use of one's own."""

from __future__ import annotations

from datetime import date, timedelta

import pytest

from calm_tariff.core.errors import NotFound, NotSignedIn
from calm_tariff.services.serve import history, own_use
from tests.office import START, Office
from tests.services.usages import usage


def test_last_months_units_and_the_busiest_second_are_ones_own(office: Office) -> None:
    usage(office, 7)
    ferries, kayaks = office.consumers
    together = [office.call(ferries, START + timedelta(hours=30, milliseconds=n * 100), 100 + n) for n in range(7)]
    together += [office.call(kayaks, START + timedelta(hours=30, milliseconds=n), 200 + n) for n in range(9)]
    history.take_in(office.ctx, office.counted(together))
    office.clock.forward(days=30)
    found = own_use.last_month(office.acting(ferries), "harbour-data")
    assert (found.month, [(m.key, m.units) for m in found.meters]) == (date(2026, 9, 1), [("forecast_calls", 14)])
    assert found.at_once == 7
    assert own_use.last_month(office.acting(kayaks), "harbour-data").at_once == 9


def test_who_used_nothing_begins_with_nothing_and_nobody_has_a_use(office: Office) -> None:
    usage(office, 7)  # in this month, not in the last
    found = own_use.last_month(office.acting(office.consumers[0]), "harbour-data")
    assert (found.meters, found.at_once) == ([], 1)
    with pytest.raises(NotSignedIn):
        own_use.last_month(office.ctx, "harbour-data")
    with pytest.raises(NotFound):
        own_use.last_month(office.acting(office.consumers[0]), "never-was")
