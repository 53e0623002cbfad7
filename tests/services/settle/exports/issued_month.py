"""A month that was issued, with a late line, an adjustment, a credit note and a reverse charge, as tests export it."""

from __future__ import annotations

from decimal import Decimal

from calm_tariff.core.billing.documents.adjustments import Wanted as Adjusting
from calm_tariff.core.billing.documents.credit_notes import Taken
from calm_tariff.services.admit.organisation import details
from calm_tariff.services.admit.organisation.details import Details
from calm_tariff.services.base.context import provider_of
from calm_tariff.services.settle.documents import adjustments, credit_notes, issuing
from calm_tariff.services.settle.documents.credit_notes import Wanted
from calm_tariff.services.settle.periods import charging
from tests.office import Office
from tests.services.months import LATER, OCTOBER, SEPTEMBER, issued, period, record
from tests.services.settle.accounts.owing import whose
from tests.services.settle.documents.recorded import arrive, invoice_of


def october(office: Office) -> int:
    """Have October issued; the id of Ferries' invoice, of which a part of the fee is credited again."""
    record(office, 30)
    office.clock.now = LATER
    with office.ctx.transaction() as session:
        provider = provider_of(session)
        provider.country, provider.tax_number = "PT", "PT599999993"
    details.change(office.manager, whose(office), Details(country="PT"))
    reversed_ = Details(country="DE", tax_number="DE136695976", tax_treatment="reverse charge")
    details.change(office.manager, whose(office, 1), reversed_)
    issued(office, SEPTEMBER)
    arrive(office, 3000, 1000)
    office.clock.forward(days=31)
    charging.run(office.finance, OCTOBER)
    draft = invoice_of(office, OCTOBER).summary.id
    less = Adjusting(words="A week without data", amount=Decimal("-1.50"), treatment="standard", reason="Ticket 17")
    adjustments.add(office.finance, draft, less)
    issuing.issue(office.finance, period(office, OCTOBER).drafts)
    fee = next(x for x in invoice_of(office, OCTOBER).lines if x.kind == "fee" and x.sort == "own")
    wanted = Wanted(reason="A quay was closed.", lines=(Taken(line=fee.id, amount=Decimal("2.00")),))
    credit_notes.issue(office.finance, draft, wanted)
    return draft
