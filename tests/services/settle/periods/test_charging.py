"""Charge runs and numbers."""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import UTC, date, datetime
from decimal import Decimal

import pytest
from sqlalchemy import select

from calm_tariff.core.billing.documents.numbering import document_number
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.formats.cases import rate_text
from calm_tariff.services.base.context import Actor, provider_of
from calm_tariff.services.settle.documents import invoices, issuing
from calm_tariff.services.settle.documents.issuing import Issuing
from calm_tariff.services.settle.periods import charging, periods
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.settle.money_documents import ChargeRun, Invoice
from tests.office import Office
from tests.services.months import LATER, OCTOBER, SEPTEMBER, at_once, period, record
from tests.services.settle.documents.recorded import arrive, invoice_of, issue
from tests.services.usages import usage


def test_a_charge_run_makes_invoices_that_evidence_computes_again(office: Office) -> None:
    usage(office, 60)
    october = replace(office.finance, clock=lambda: datetime(2026, 10, 2, 9, tzinfo=UTC))
    first = charging.run(october, date(2026, 9, 1), "run-1")
    assert charging.run(october, date(2026, 9, 1), "run-1") == first
    assert charging.run(october, date(2026, 9, 1), "run-2").invoices == first.invoices == 2
    with pytest.raises(Conflict, match="idempotency key"):
        charging.run(october, date(2026, 8, 1), "run-1")
    period = periods.one(october, date(2026, 9, 1), PageQuery())
    ferries = next(c for c in period.charges.rows if c.consumer == "Ferries")
    invoice = invoices.one(office.finance, ferries.invoice_id)
    # From 10 September noon: 21 of 30 days. Included 10 × 21/30 = 7; 60 − 7 = 53: 20 × 0.004 + 33 × 0.003.
    assert [(x.kind, x.charged.days, x.priced, x.amount) for x in invoice.lines] == [
        ("fee", 21, None, Decimal("28.00")),
        ("usage", 21, Decimal(53), Decimal("0.18")),
    ]
    assert [(s.quantity, s.amount) for s in invoice.lines[1].slices] == [
        (Decimal(20), Decimal("0.080")),
        (Decimal(33), Decimal("0.099")),
    ]
    again = rate_text(json.dumps(invoices.evidence(office.finance, ferries.invoice_id)))
    assert [Decimal(x["amount"]) for x in again["lines"]] == [x.amount for x in invoice.lines]
    assert (Decimal(again["total"]), Decimal(again["tax"])) == (invoice.total, invoice.tax)
    assert sum(d.units for d in invoices.days(office.finance, invoice.lines[1].id)) == invoice.lines[1].quantity
    drafts = [c.invoice_id for c in period.charges.rows]
    both = Issuing(issued=2, nothing_due=0)
    assert issuing.issue(october, drafts, "issue") == issuing.issue(october, drafts, "issue") == both
    with pytest.raises(Conflict, match="it is issued"):
        issuing.issue(october, drafts)
    usage(office, 61)  # one call more: issued invoices stay as they are
    assert charging.run(october, date(2026, 9, 1)).left_alone == 2
    assert invoices.one(office.finance, ferries.invoice_id).total == invoice.total


def test_the_running_period_can_be_drafted_but_not_issued(office: Office) -> None:
    usage(office, 5)
    made = charging.run(office.finance, date(2026, 9, 1))
    with pytest.raises(Conflict, match="its period runs until"):
        issuing.issue(
            office.finance, [c.invoice_id for c in periods.charges(office.finance, date(2026, 9, 1), PageQuery()).rows]
        )
    assert made.invoices == 2
    with pytest.raises(Conflict, match="has not begun"):
        charging.run(office.finance, date(2026, 10, 1))


def test_numbers_are_given_at_issue_from_one_on_without_a_gap(office: Office) -> None:
    record(office, 5)
    charging.run(office.finance, SEPTEMBER)
    charging.run(office.finance, SEPTEMBER)  # drafts made anew cost no number
    office.clock.now = LATER
    first, second = period(office).drafts
    issuing.issue(office.finance, [first])
    with pytest.raises(Conflict, match="issued"):
        issuing.issue(office.finance, [second, first])  # one is no draft: neither is issued, nor a number used
    issuing.issue(office.finance, [second])
    with office.ctx.transaction() as session:
        found = [session.get_one(Invoice, n).number for n in (first, second)]
    assert found == ["INV-2026-00001", "INV-2026-00002"]
    office.clock.now = datetime(2027, 1, 2, tzinfo=UTC)
    charging.run(office.finance, OCTOBER)
    issuing.issue(office.finance, period(office, OCTOBER).drafts)
    with office.ctx.transaction() as session:
        numbers = session.scalars(select(Invoice.number).where(Invoice.period_start == OCTOBER).order_by(Invoice.id))
        assert list(numbers) == ["INV-2027-00001", "INV-2027-00002"]  # a series for each year of issue


def test_whoever_issues_beside_others_shares_their_series(office: Office) -> None:
    for n in range(6):
        office.consumers.append(office.admit(f"Guest {n}".replace(" ", ""), "Ketch"))
    charging.run(office.finance, SEPTEMBER)
    office.clock.now = LATER
    drafts = period(office).drafts
    at_once(office.finance, lambda n: issuing.issue(office.finance, [drafts[n]]), len(drafts))
    with office.ctx.transaction() as session:
        numbers = sorted(session.scalars(select(Invoice.number)))
    assert numbers == [document_number("invoice", 2026, n) for n in range(1, len(drafts) + 1)]


def test_two_runs_at_once_with_one_key_are_one_run(office: Office) -> None:
    record(office, 5)
    first, *others = at_once(office.finance, lambda _: charging.run(office.finance, SEPTEMBER, "the same"), 4)
    assert others == [first] * 3
    with office.ctx.transaction() as session:
        assert len(session.scalars(select(ChargeRun)).all()) == 1


def test_a_key_belongs_to_who_asks_and_not_to_a_name(office: Office) -> None:
    one = office.ctx.acting(Actor("Beatriz", frozenset({"finance"}), person_id=1))
    namesake = office.ctx.acting(Actor("Beatriz", frozenset({"finance"}), person_id=2))
    first = charging.run(one, SEPTEMBER, "k")
    assert charging.run(one, SEPTEMBER, "k") == first
    assert charging.run(namesake, SEPTEMBER, "k").id != first.id
    with pytest.raises(Conflict, match="another request"):
        charging.run(one, OCTOBER, "k")
    identities = {
        Actor("B", frozenset({"finance"}), person_id=1).identity,
        Actor("B", frozenset({"finance"}), token_id=1).identity,
        Actor("B", member_id=1).identity,
        Actor("1").identity,
    }
    assert len(identities) == 4


def test_a_draft_of_what_is_not_charged_any_more_goes_with_the_next_run(office: Office) -> None:
    """As where two organisations became one while the first run was made: it must not be issued beside the other's."""
    charging.run(office.finance, SEPTEMBER)
    ferries, kayaks = office.consumers
    with office.ctx.transaction() as session:
        session.get_one(Application, kayaks.application).consumer_id = ferries.member.own_consumer
    assert charging.run(office.finance, SEPTEMBER).invoices == 1
    with office.ctx.transaction() as session:
        (only,) = session.scalars(select(Invoice)).all()
        assert only.consumer_id == ferries.member.own_consumer
        assert {line.subscription_id for line in only.lines} == {ferries.subscription, kayaks.subscription}
    office.clock.now = LATER
    issuing.issue(office.finance, [only.id])
    with office.ctx.transaction() as session:
        session.get_one(Application, kayaks.application).consumer_id = kayaks.member.own_consumer
        session.get_one(Application, ferries.application).consumer_id = kayaks.member.own_consumer
    charging.run(office.finance, SEPTEMBER)
    with office.ctx.transaction() as session:
        assert session.get_one(Invoice, only.id).state == "issued"  # which no run touches


def test_where_nothing_is_due_nothing_is_issued_and_no_number_used(office: Office) -> None:
    office.consumers.append(office.admit("Pelorus", "Skiff"))  # whose fee is 0
    charging.run(office.finance, SEPTEMBER)
    office.clock.now = LATER
    drafts = period(office).drafts
    assert issuing.issue(office.finance, drafts) == Issuing(issued=2, nothing_due=1)
    pelorus = invoice_of(office, consumer="Pelorus")
    assert (pelorus.summary.state, pelorus.summary.number, pelorus.summary.due_on) == ("nothing due", None, None)
    assert invoices.own(office.acting(office.consumers[2])) == []
    with pytest.raises(NotFound):
        invoices.own_one(office.acting(office.consumers[2]), pelorus.summary.id)
    assert period(office).state == "issued"
    with pytest.raises(Conflict, match="it is nothing due"):
        issuing.issue(office.finance, [pelorus.summary.id])
    assert charging.run(office.finance, SEPTEMBER).left_alone == 3
    # What arrives for that month after all is charged late.
    arrive(office, 5, 0, whose=2)
    arrive(office, 400, 10, whose=2)
    office.clock.now = datetime(2026, 11, 3, tzinfo=UTC)
    (late,) = [x for x in issue(office, OCTOBER, "Pelorus").lines if x.sort == "late"]
    assert (late.belongs_to, late.quantity, late.before) == (SEPTEMBER, Decimal(405), Decimal(0))


def test_a_provider_may_want_invoices_of_nothing(office: Office) -> None:
    office.consumers.append(office.admit("Pelorus", "Skiff"))
    with office.ctx.transaction() as session:
        provider_of(session).zero_invoices = True
    charging.run(office.finance, SEPTEMBER)
    office.clock.now = LATER
    assert issuing.issue(office.finance, period(office).drafts) == Issuing(issued=3, nothing_due=0)
    pelorus = invoice_of(office, consumer="Pelorus").summary
    assert pelorus.number and pelorus.state == "paid"  # nothing of it is open


def test_a_draft_made_anew_is_the_same_one(office: Office) -> None:
    record(office, 5)
    charging.run(office.finance, SEPTEMBER)
    before = period(office).drafts
    record(office, 30, tail=100)
    charging.run(office.finance, SEPTEMBER)
    assert period(office).drafts == before
    (usage,) = [x for x in invoice_of(office).lines if x.kind == "usage"]
    assert usage.quantity == 35
