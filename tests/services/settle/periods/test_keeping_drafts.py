"""Drafts are kept many at once, and each as if it were the only one."""

from __future__ import annotations

from dataclasses import replace
from decimal import Decimal

import pytest
from sqlalchemy import select

from calm_tariff.services.settle.documents import adjustments, invoices, issuing
from calm_tariff.services.settle.documents.adjustments import Wanted
from calm_tariff.services.settle.periods import charging, reviewing
from calm_tariff.store.settle.money_documents import DocumentTax, DraftReview, Invoice, MoneyLine
from tests.office import Office
from tests.services.months import LATER, SEPTEMBER, period, record
from tests.services.queries import asked
from tests.services.settle.documents.recorded import invoice_of


@pytest.fixture
def many(office: Office) -> Office:
    for n in range(5):
        office.admit(f"More{n}", list(office.plans)[n % 2])
    record(office, 40)
    office.clock.now = LATER
    return office


def rows(office: Office) -> dict[int, list[tuple[object, ...]]]:
    """All that a month's drafts hold, but for the ids of their lines."""
    kept = [c for c in MoneyLine.__table__.columns if c.name != "id"]
    with office.ctx.transaction() as session:
        found: dict[int, list[tuple[object, ...]]] = {}
        for of in (kept, list(DocumentTax.__table__.columns), list(DraftReview.__table__.columns)):
            whose = next(n for n, c in enumerate(of) if c.name == "document_id")
            for row in session.execute(select(*of).order_by(*of[:2])):
                found.setdefault(row[whose], []).append(tuple(row))
        return found


def test_many_take_no_more_statements_than_two(office: Office) -> None:
    """A run that took one more for each would not be done with ten thousand."""
    counted = []
    for more in ((), ("Moules", "Nets", "Oars", "Pots", "Quays")):
        for name in more:
            office.admit(name, "Ketch")
        with asked(office.ctx) as first:
            charging.run(office.finance, SEPTEMBER)
        with asked(office.ctx) as anew:
            run = charging.run(office.finance, SEPTEMBER)
        counted.append((run.invoices, len(first), len(anew)))
        with office.ctx.transaction() as session:
            for draft in session.scalars(select(Invoice)):
                session.delete(draft)
    (two, first_of_two, anew_of_two), (seven, first_of_seven, anew_of_seven) = counted
    assert (two, seven) == (2, 7)
    assert first_of_seven <= first_of_two and anew_of_seven == anew_of_two


def test_those_kept_together_are_those_kept_one_by_one(many: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(charging, "DRAFTED_AT_ONCE", 100)
    charging.run(many.finance, SEPTEMBER)
    together = rows(many)
    assert len(together) == 7 and sum(len(of) for of in together.values()) > 7 * 3
    monkeypatch.setattr(charging, "DRAFTED_AT_ONCE", 1)
    charging.run(many.finance, SEPTEMBER)
    assert rows(many) == together


def test_a_new_one_one_made_anew_and_an_issued_one_in_one_part(many: Office) -> None:
    charging.run(many.finance, SEPTEMBER)
    issuing.issue(many.finance, [invoice_of(many, consumer="Kayaks").summary.id])
    issued = invoice_of(many, consumer="Kayaks")
    kept = invoice_of(many).summary.id
    record(many, 10, tail=1000)
    with many.ctx.transaction() as session:
        session.delete(session.get_one(Invoice, invoice_of(many, consumer="More1").summary.id))
    run = charging.run(many.finance, SEPTEMBER)
    assert (run.invoices, run.left_alone) == (6, 1)
    assert invoice_of(many, consumer="Kayaks") == issued
    ferries = invoice_of(many)
    assert ferries.summary.id == kept
    assert [line.quantity for line in ferries.lines if line.kind == "usage"] == [Decimal(50)]
    assert run.total == sum(invoices.one(many.finance, draft).total for draft in period(many).drafts)
    assert invoice_of(many, consumer="More1").lines


def test_what_is_held_back_stays_so_and_what_is_adjusted_is_there_again(many: Office) -> None:
    charging.run(many.finance, SEPTEMBER)
    ferries, kayaks = (invoice_of(many, consumer=name).summary.id for name in ("Ferries", "Kayaks"))
    reviewing.hold_back(many.finance, kayaks, "Their ticket is open.")
    wanted = Wanted(words="A lost week", amount=Decimal("-3.00"), treatment="standard", reason="Ticket 17")
    adjustments.add(many.finance, ferries, wanted)
    before = invoices.one(many.finance, ferries)
    charging.run(many.finance, SEPTEMBER)
    after = invoices.one(many.finance, ferries)
    assert [replace(line, id=0) for line in after.lines] == [replace(line, id=0) for line in before.lines]
    assert after.total == before.total
    assert after.lines[-1].kind == "adjustment" and after.lines[-1].amount == Decimal("-3.00")
    with many.ctx.transaction() as session:
        review = session.get_one(DraftReview, kayaks)
        assert review.held_why == "Their ticket is open." and review.held_by
