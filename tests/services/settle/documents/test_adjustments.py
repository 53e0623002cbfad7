"""Lines that people add to drafts."""

from __future__ import annotations

from dataclasses import replace
from decimal import Decimal

import pytest

from calm_tariff.core.billing.documents.adjustments import Wanted
from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound
from calm_tariff.services.base import auditing
from calm_tariff.services.base.auditing import EntryFilter
from calm_tariff.services.base.context import Actor, Context, provider_of
from calm_tariff.services.settle.documents import adjustments, issuing
from calm_tariff.services.settle.documents.invoices import InvoiceView
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office
from tests.services.months import LATER, SEPTEMBER
from tests.services.settle.documents.recorded import invoice_of

DISCOUNT = Wanted(words="A week without data", amount=Decimal("-7.00"), treatment="standard", reason="Ticket 17")


@pytest.fixture
def draft(office: Office) -> InvoiceView:
    """Ferries' September: fee 28.00."""
    with office.ctx.transaction() as session:
        provider_of(session).adjustment_limit = Decimal(20)
    charging.run(office.finance, SEPTEMBER)
    return invoice_of(office)


def colleague(office: Office) -> Context:
    return office.ctx.acting(Actor("Tomas", frozenset({"finance"}), person_id=77))


def adjusted(office: Office) -> list[tuple[str, Decimal]]:
    return [(x.label, x.amount) for x in invoice_of(office).lines if x.sort == "adjustment"]


def test_a_line_is_added_with_its_reason_and_stays_through_a_run(office: Office, draft: InvoiceView) -> None:
    assert (draft.subtotal, draft.total) == (Decimal("28.00"), Decimal("34.44"))
    for _ in range(2):
        adjustments.add(office.finance, draft.summary.id, DISCOUNT, "k")
    exempt = replace(DISCOUNT, words="Deposit", amount=Decimal("5.00"), treatment="exempt")
    adjustments.add(office.finance, draft.summary.id, exempt)
    for _ in range(2):
        now = invoice_of(office)
        assert [(x.sort, x.label, x.amount) for x in now.lines[-2:]] == [
            ("adjustment", "A week without data", Decimal("-7.00")),
            ("adjustment", "Deposit", Decimal("5.00")),
        ]
        assert [(g.treatment, g.base, g.tax) for g in now.tax_groups] == [
            ("standard", Decimal("21.00"), Decimal("4.83")),
            ("exempt", Decimal("5.00"), Decimal("0.00")),
        ]
        assert now.total == Decimal("30.83")
        assert now.summary.id == draft.summary.id  # a draft that is made anew is the same one
        charging.run(office.finance, SEPTEMBER)
    (entry, _) = auditing.entries(office.manager, PageQuery(), EntryFilter(action="adjusted an invoice")).rows
    assert entry.why == "Ticket 17" and "Deposit, Ferries, September 2026" in entry.subject


def test_above_an_amount_a_second_person_has_to_agree(office: Office, draft: InvoiceView) -> None:
    more = replace(DISCOUNT, amount=Decimal("20.01"))
    adjustments.add(office.finance, draft.summary.id, more)
    (waits,) = invoice_of(office).adjustments
    assert (waits.state, waits.own, adjusted(office)) == ("waiting", True, [])
    office.clock.now = LATER
    with pytest.raises(Conflict, match="waits for a second person"):
        issuing.issue(office.finance, [draft.summary.id])
    with pytest.raises(NotAllowed, match="somebody else"):
        adjustments.agree(office.finance, waits.id)
    with pytest.raises(NotAllowed):
        adjustments.agree(office.manager, waits.id)
    adjustments.agree(colleague(office), waits.id)
    assert adjusted(office) == [("A week without data", Decimal("20.01"))]
    (agreed,) = invoice_of(office).adjustments
    assert (agreed.agreed_by, agreed.state) == ("Tomas", "agreed")
    with pytest.raises(Conflict, match="it is agreed"):
        adjustments.agree(colleague(office), waits.id)
    issuing.issue(office.finance, [draft.summary.id])
    assert invoice_of(office).subtotal == Decimal("48.01")


def test_a_line_is_taken_back_while_its_invoice_is_a_draft(office: Office, draft: InvoiceView) -> None:
    adjustments.add(office.finance, draft.summary.id, DISCOUNT)
    (made,) = invoice_of(office).adjustments
    adjustments.take_back(office.finance, made.id)
    assert adjusted(office) == [] and invoice_of(office).adjustments == []
    assert invoice_of(office).total == Decimal("34.44")
    adjustments.add(office.finance, draft.summary.id, DISCOUNT)
    (made,) = invoice_of(office).adjustments
    office.clock.now = LATER
    issuing.issue(office.finance, [draft.summary.id])
    for refused in (
        lambda: adjustments.take_back(office.finance, made.id),
        lambda: adjustments.add(office.finance, draft.summary.id, DISCOUNT),
    ):
        with pytest.raises(Conflict, match="cannot be adjusted any more"):
            refused()
    assert adjusted(office) == [("A week without data", Decimal("-7.00"))]
    with pytest.raises(NotFound):
        adjustments.take_back(office.finance, 10**9)


def test_an_invoice_of_less_than_nothing_is_not_issued(office: Office, draft: InvoiceView) -> None:
    for _ in range(5):
        adjustments.add(office.finance, draft.summary.id, DISCOUNT)
    assert invoice_of(office).total == Decimal("-8.61")
    office.clock.now = LATER
    with pytest.raises(Conflict, match="less than nothing"):
        issuing.issue(office.finance, [draft.summary.id])


@pytest.mark.parametrize(
    ("wrong", "where"),
    [
        ({"words": " "}, "words"),
        ({"words": "x" * 201}, "words"),
        ({"reason": " "}, "reason"),
        ({"amount": Decimal(0)}, "amount"),
        ({"amount": Decimal("1.005")}, "amount"),
        ({"amount": Decimal("NaN")}, "amount"),
        ({"amount": Decimal(10) ** 15}, "amount"),
        ({"treatment": "zero"}, "treatment"),
    ],
)
def test_what_means_nothing_is_refused_by_its_field(
    office: Office, draft: InvoiceView, wrong: dict, where: str
) -> None:
    with pytest.raises(Invalid) as refused:
        adjustments.add(office.finance, draft.summary.id, replace(DISCOUNT, **wrong))
    assert refused.value.where == where
    assert invoice_of(office).adjustments == []


def test_whoever_owes_the_tax_themselves_is_charged_none(office: Office, draft: InvoiceView) -> None:
    with office.ctx.transaction() as session:
        ferries = session.get_one(Consumer, office.consumers[0].member.own_consumer)
        ferries.tax_treatment, ferries.tax_note = "reverse charge", ""
    charging.run(office.finance, SEPTEMBER)
    (group,) = invoice_of(office).tax_groups
    assert (group.treatment, group.percent, group.tax) == ("reverse charge", Decimal(0), Decimal(0))
    assert group.note == "Reverse charge: the recipient is liable for the VAT"
    assert invoice_of(office).total == Decimal("28.00")
    assert [g.treatment for g in invoice_of(office, consumer="Kayaks").tax_groups] == ["standard"]
