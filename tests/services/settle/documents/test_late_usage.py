"""Usage that comes late is told and shown apart."""

from __future__ import annotations

from datetime import timedelta
from decimal import Decimal

from calm_tariff.services.observe import today
from calm_tariff.services.settle.documents import invoices
from tests.office import START, Office
from tests.services.months import LATER, issued, of, period, record


def test_usage_that_comes_late_is_told_and_shown_apart(office: Office) -> None:
    one = office.consumers[0]
    record(office, 30)
    office.clock.now = LATER
    invoice = issued(office)[0]
    line = next(x for x in invoices.one(office.finance, invoice).lines if x.kind == "usage")
    before = invoices.days(office.finance, line.id)
    assert (sum(d.units for d in before), [d.late for d in before]) == (line.quantity, [Decimal(0)])
    assert period(office).late == []

    record(office, 7, START, 500)
    record(office, 2, START + timedelta(days=3), 600)
    after = invoices.days(office.finance, line.id)
    # The issued line opens into what it was made of; what arrived since stands apart.
    assert [(d.day.day, d.units, d.late) for d in after] == [(10, 30, 7), (13, 0, 2)]
    shown = next(x for x in invoices.one(office.finance, invoice).lines if x.id == line.id)
    assert (shown.quantity, shown.late) == (30, 9)
    assert [(x.consumer, x.meter, x.units, x.invoice_id) for x in period(office).late] == [
        ("Ferries", "Forecast calls", Decimal(9), invoice)
    ]
    told = [i for i in today.today(office.finance).yours if "arrived late for September" in i.title]
    assert len(told) == 1 and "Ferries" in told[0].detail
    mine = invoices.own_days(office.acting(one), line.id)
    assert sum(d.units for d in mine) == 30
    assert of(office, "Ferries").charge == of(office, "Ferries").invoiced  # the issued one says what it said
