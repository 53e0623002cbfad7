"""Offices whose consumers pay by card."""

from __future__ import annotations

import pytest

from calm_tariff.services.base.context import provider_of
from calm_tariff.services.settle.documents.invoices import InvoiceView
from tests.office import Office
from tests.services.months import LATER
from tests.services.settle.cards.processors import Simulated
from tests.services.settle.documents.recorded import issue


@pytest.fixture
def simulated(office: Office) -> Simulated:
    """The payment processor of the office."""
    return Simulated(office)


@pytest.fixture
def invoice(office: Office, simulated: Simulated) -> InvoiceView:
    """Ferries' September of 34.44, to be paid by a card without any fault on 17 October."""
    office.clock.now = LATER
    with office.ctx.transaction() as session:
        provider_of(session).pause_after_days = 20
    simulated.give("pays")
    return issue(office)
