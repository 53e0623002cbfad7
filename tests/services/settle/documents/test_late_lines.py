"""Usage that arrives for an issued month is charged once, on the next invoice, at that month's price."""

from __future__ import annotations

import json
from datetime import UTC, date, datetime
from decimal import Decimal

import pytest

from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.periods import month_starting
from calm_tariff.core.rating import rate
from calm_tariff.formats.cases import late_text
from calm_tariff.services.admit.desk import asking
from calm_tariff.services.admit.desk.asking import MoveAsked
from calm_tariff.services.base.context import provider_of
from calm_tariff.services.settle import rating_cases
from calm_tariff.services.settle.documents import invoices, issuing, late_lines
from calm_tariff.services.settle.documents.invoices import InvoiceView
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.settle.money_documents import Invoice
from tests.office import Office
from tests.services.months import LATER, OCTOBER, SEPTEMBER
from tests.services.settle.documents.recorded import arrive, invoice_of, issue

NOVEMBER = date(2026, 11, 1)
IN_OCTOBER = datetime(2026, 10, 9, 12, tzinfo=UTC)


def at(office: Office, *day: int) -> None:
    office.clock.now = datetime(*day, 9, tzinfo=UTC)


def late_of(invoice: InvoiceView) -> list[tuple[date, str, Decimal, Decimal | None, Decimal | None]]:
    return [(x.belongs_to, x.label, x.amount, x.quantity, x.before) for x in invoice.lines if x.sort == "late"]


def september(office: Office) -> Decimal:
    """What Ferries' September comes to by all that is recorded now."""
    with office.ctx.transaction() as session:
        owner = office.consumers[0].member.own_consumer
        (case,) = rating_cases.cases(session, month_starting(SEPTEMBER), [owner])
        return rate(case.case).subtotal


def test_what_arrives_late_stands_on_the_next_invoice_and_once(office: Office) -> None:
    arrive(office, 60, 0)
    at(office, 2026, 10, 3)
    first = issue(office)
    arrive(office, 400, 100)
    arrive(office, 100, 1000, since=IN_OCTOBER)
    at(office, 2026, 11, 3)
    charging.run(office.finance, OCTOBER)
    draft = invoice_of(office, OCTOBER)
    # 453 priced: 20 × 0.004 + 433 × 0.003 = 1.379, of which 0.18 (53 priced) was charged.
    assert late_of(draft) == [(SEPTEMBER, "Forecast calls", Decimal("1.20"), Decimal(400), Decimal("0.18"))]
    (late,) = [x for x in draft.lines if x.sort == "late"]
    assert [(x.sort, x.kind) for x in draft.lines] == [("own", "fee"), ("own", "usage"), ("late", "usage")]
    assert (late.corrects.number, late.charged.plan, late.priced) == (first.summary.number, "Ketch", Decimal(453))
    assert sum(d.units for d in invoices.days(office.finance, late.id)) == 400
    assert [x.number for x in draft.late_of] == [first.summary.number]
    evidence = json.dumps(invoices.late_evidence(office.finance, draft.summary.id, first.summary.id))
    assert late_text(evidence)["subtotal"] == "1.20"
    with pytest.raises(NotFound):
        invoices.late_evidence(office.finance, draft.summary.id, draft.summary.id)
    issuing.issue(office.finance, [draft.summary.id])
    # On its own month's invoice nothing is said to be missing any more, and the next invoice charges what comes then.
    (usage,) = [x for x in invoices.one(office.finance, first.summary.id).lines if x.kind == "usage"]
    assert usage.late == 0
    arrive(office, 200, 2000)
    at(office, 2026, 12, 3)
    second = issue(office, NOVEMBER)
    assert late_of(second) == [(SEPTEMBER, "Forecast calls", Decimal("0.60"), Decimal(200), Decimal("1.38"))]
    assert first.subtotal + Decimal("1.20") + Decimal("0.60") == september(office)
    at(office, 2027, 1, 3)
    assert late_of(issue(office, date(2026, 12, 1))) == []


def test_late_usage_of_two_months_stands_in_their_order(office: Office) -> None:
    at(office, 2026, 11, 3)
    issue(office), issue(office, OCTOBER)
    arrive(office, 400, 0, since=IN_OCTOBER)
    arrive(office, 500, 500)
    at(office, 2026, 12, 3)
    found = late_of(issue(office, NOVEMBER))
    assert [(start, quantity) for start, _, _, quantity, _ in found] == [(SEPTEMBER, 500), (OCTOBER, 400)]


def test_two_drafts_may_hold_it_and_one_of_them_is_issued(office: Office) -> None:
    at(office, 2026, 10, 3)
    issue(office)
    arrive(office, 500, 0)
    at(office, 2026, 12, 3)
    for start in (OCTOBER, NOVEMBER):
        charging.run(office.finance, start)
        assert len(late_of(invoice_of(office, start))) == 1
    october, november = (invoice_of(office, start).summary.id for start in (OCTOBER, NOVEMBER))
    with pytest.raises(Conflict, match="September 2026 was charged or credited on another document meanwhile"):
        issuing.issue(office.finance, [october, november])
    issuing.issue(office.finance, [october])
    with pytest.raises(Conflict, match="charge anew"):
        issuing.issue(office.finance, [november])
    assert late_of(issue(office, NOVEMBER)) == []


def test_what_is_recorded_after_the_draft_hinders_nothing_and_is_late_next_time(office: Office) -> None:
    at(office, 2026, 10, 3)
    issue(office)
    arrive(office, 500, 0)
    at(office, 2026, 11, 3)
    charging.run(office.finance, OCTOBER)
    arrive(office, 300, 600)
    issuing.issue(office.finance, [invoice_of(office, OCTOBER).summary.id])
    at(office, 2026, 12, 3)
    assert [x[3] for x in late_of(issue(office, NOVEMBER))] == [300]


def test_what_costs_nothing_is_on_no_invoice(office: Office) -> None:
    at(office, 2026, 10, 3)
    first = issue(office)
    arrive(office, 5, 0)  # of 7 that are included
    at(office, 2026, 11, 3)
    assert late_of(issue(office, OCTOBER)) == []
    (usage,) = [x for x in invoices.one(office.finance, first.summary.id).lines if x.kind == "usage"]
    assert usage.late == 5


def test_who_left_is_charged_late_all_the_same(office: Office) -> None:
    own = office.acting(office.consumers[0])
    at(office, 2026, 9, 15)
    asking.ask_to_move(own, office.consumers[0].subscription, MoveAsked(kind="end"))
    office.clock.now = LATER
    issue(office)
    arrive(office, 900, 0)
    at(office, 2026, 11, 3)
    found = issue(office, OCTOBER)
    assert [(x.sort, x.quantity) for x in found.lines] == [("late", 900)]
    assert found.summary.number == "INV-2026-00002"


def test_a_late_line_is_taxed_as_the_document_it_corrects(office: Office) -> None:
    arrive(office, 60, 0)
    at(office, 2026, 10, 3)
    issue(office)
    with office.ctx.transaction() as session:
        provider_of(session).tax_changes = [{"since": "2026-10-31", "percent": "25"}]
    arrive(office, 400, 100)
    at(office, 2026, 11, 3)
    october = issue(office, OCTOBER)
    assert [(g.percent, g.base, g.tax) for g in october.tax_groups] == [
        (Decimal(25), Decimal("40.00"), Decimal("10.00")),
        (Decimal(23), Decimal("1.20"), Decimal("0.28")),
    ]
    assert october.total == Decimal("51.48")
    evidence = invoices.evidence(office.finance, october.summary.id)
    assert evidence["tax_percent"] == "25"


def test_nothing_waits_where_nothing_came(office: Office) -> None:
    arrive(office, 60, 0)
    at(office, 2026, 10, 3)
    issue(office)
    with office.ctx.transaction() as session:
        assert late_lines.waiting(session, OCTOBER) == []
    arrive(office, 400, 100)
    with office.ctx.transaction() as session:
        (found,) = late_lines.waiting(session, OCTOBER)
        assert isinstance(found.invoice, Invoice)
        assert late_lines.waiting(session, OCTOBER, consumers=[office.consumers[1].member.own_consumer]) == []
        assert late_lines.waiting(session, SEPTEMBER) == []
