"""A house in which everything was booked once: invoices, a credit note, money both ways, and what was written off."""

from __future__ import annotations

from decimal import Decimal

from calm_tariff.core.billing.accounts.payments import Money
from calm_tariff.services.settle.accounts import payments, writing_off
from tests.office import Office
from tests.services.months import SEPTEMBER
from tests.services.settle.accounts.owing import at, pay, today, whose
from tests.services.settle.cards.processors import Simulated
from tests.services.settle.documents.recorded import invoice_of
from tests.services.settle.exports import issued_month


def lived(office: Office) -> None:
    """Invoices in October, and from then on until late in November all else; the last payment is Kayaks', by card."""
    simulated = Simulated(office)
    simulated.give("pays", n=1)
    issued_month.october(office)
    back = pay(office, "10.00")
    payments.went_back(office.finance, back, "No cover.")
    pay(office, "500.00")
    payments.refund(office.finance, whose(office), Money(amount=Decimal("7.50"), value_on=today(office)))
    lost = invoice_of(office, SEPTEMBER, "Kayaks").summary
    writing_off.ask(office.finance, lost.id, "They moved away.")
    at(office, 2026, 11, 18)
    assert simulated.work()
