"""What is billed outside is not charged here, from the month on that was said, until another; and no month is charged
twice, or nowhere."""

from __future__ import annotations

from datetime import UTC, date, datetime

import pytest

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound
from calm_tariff.services.settle.documents import issuing
from calm_tariff.services.settle.handoff import products
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.settle.handoff import OutsideProduct
from tests.office import Office
from tests.services.months import LATER, OCTOBER, SEPTEMBER, issued, period, record
from tests.services.settle.documents.recorded import arrive, invoice_of
from tests.services.settle.handoff.outside import Outside

NOVEMBER, DECEMBER = date(2026, 11, 1), date(2026, 12, 1)


def test_months_that_are_billed_outside_are_not_charged_here(office: Office, outside: Outside) -> None:
    record(office, 30)
    office.clock.now = LATER
    charging.run(office.finance, SEPTEMBER)
    assert period(office).charges.rows == [] and period(office).drafts == []
    assert period(office, OCTOBER).charges.rows == []


def test_months_before_it_are_and_late_usage_of_them_as_well(office: Office) -> None:
    outside = Outside(office, since=OCTOBER)
    record(office, 30)
    record(office, 20, datetime(2026, 10, 2, 9, tzinfo=UTC), tail=100)
    office.clock.now = LATER
    issued(office)
    assert invoice_of(office).summary.total > 0
    outside.map()
    outside.hand_on()
    assert sum(each.units for each in outside.events()) == 20
    arrive(office, 5, 500)
    outside.hand_on()
    assert sum(each.units for each in outside.events()) == 20
    office.clock.now = datetime(2026, 11, 3, 9, tzinfo=UTC)
    charging.run(office.finance, OCTOBER)
    (line,) = invoice_of(office, OCTOBER).lines
    assert (line.sort, line.belongs_to, line.quantity) == ("late", SEPTEMBER, 5)


def test_after_its_end_it_is_charged_here_again_and_not_handed_on(office: Office, outside: Outside) -> None:
    made = products.end(office.finance, office.product, NOVEMBER)
    assert (made.since, made.until) == (SEPTEMBER, NOVEMBER)
    record(office, 10, datetime(2026, 10, 31, 12, tzinfo=UTC))
    record(office, 30, datetime(2026, 11, 2, 12, tzinfo=UTC), tail=100)
    office.clock.now = datetime(2026, 12, 3, 9, tzinfo=UTC)
    outside.look(everywhere=True)
    assert sum(each.units for each in outside.events()) == 10
    charging.run(office.finance, NOVEMBER)
    assert len(period(office, NOVEMBER).drafts) == 2
    again = products.begin(office.finance, office.product, DECEMBER)
    assert (again.since, again.until) == (DECEMBER, None)


def test_a_month_that_was_charged_is_not_billed_outside_as_well(office: Office) -> None:
    record(office, 30)
    office.clock.now = LATER
    charging.run(office.finance, SEPTEMBER)
    with pytest.raises(Invalid, match="September 2026 has documents with lines of Harbour Data"):
        products.begin(office.finance, office.product, SEPTEMBER)
    products.begin(office.finance, office.product, OCTOBER)


def test_a_draft_of_what_is_billed_outside_by_now_is_not_issued(office: Office) -> None:
    """It was drafted by a run that had begun before, and was not there when it was looked for."""
    record(office, 30)
    office.clock.now = LATER
    charging.run(office.finance, SEPTEMBER)
    drafts = period(office).drafts
    with office.ctx.transaction() as session:
        made = OutsideProduct(product_id=office.product, since=SEPTEMBER, made_by="Beatriz", made_at=LATER)
        session.add(made)
    with pytest.raises(Conflict, match="billed outside by now"):
        issuing.issue(office.finance, drafts)
    charging.run(office.finance, SEPTEMBER)
    assert period(office).drafts == []


def test_what_cannot_be(office: Office, outside: Outside) -> None:
    with pytest.raises(Conflict, match="is billed outside already"):
        products.begin(office.finance, office.product, OCTOBER)
    with pytest.raises(Invalid, match="must be 1 October 2026 or later"):
        products.end(office.finance, office.product, SEPTEMBER)
    with pytest.raises(Invalid, match="first day of a month"):
        products.end(office.finance, office.product, date(2026, 10, 2))
    products.end(office.finance, office.product, OCTOBER)
    with pytest.raises(Conflict, match="its end is said already"):
        products.end(office.finance, office.product, NOVEMBER)
    with pytest.raises(Conflict, match="until October 2026"):
        products.begin(office.finance, office.product, SEPTEMBER)
    with pytest.raises(Invalid, match="first day of a month"):
        products.begin(office.finance, office.product, date(2026, 11, 2))
    with pytest.raises(Invalid, match="within a year"):
        products.begin(office.finance, office.product, date(2028, 1, 1))
    for act in (products.begin, products.end):
        with pytest.raises(NotFound):
            act(office.finance, 999, NOVEMBER)
        with pytest.raises(NotAllowed):
            act(office.manager, office.product, NOVEMBER)
