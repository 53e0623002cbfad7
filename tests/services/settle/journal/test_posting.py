"""What is booked is posted with it, whatever it is; and what was booked before there was a journal is posted alike."""

from __future__ import annotations

from decimal import Decimal
from importlib import import_module
from typing import Any

import pytest
from sqlalchemy import delete, select, text
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Invalid
from calm_tariff.services.settle.documents import issuing
from calm_tariff.services.settle.journal import entries
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.settle.accounts import AccountEntry
from calm_tariff.store.settle.journal import JournalMonth, Ledger, Posting
from calm_tariff.store.settle.money_documents import CreditNote, Invoice
from tests.office import Office
from tests.services.months import LATER, OCTOBER, SEPTEMBER, at_once, issued, period
from tests.services.settle.accounts.owing import pay
from tests.services.settle.journal.lived import lived

NOVEMBER = OCTOBER.replace(month=11)
Posted = dict[tuple[int, str], Decimal]


def posted(session: Session) -> Posted:
    """What each entry posts where."""
    query = select(Posting.entry_id, Ledger.stands_for, Posting.amount).join(Ledger)
    return {(entry, where): amount for entry, where, amount in session.execute(query)}


def test_every_kind_of_entry_posts_what_sums_to_nothing(office: Office) -> None:
    lived(office)
    with office.ctx.transaction() as session:
        found = posted(session)
        kinds: dict[str, dict[str, Decimal]] = {}
        for entry in session.scalars(select(AccountEntry).order_by(AccountEntry.id)):
            own = {where: amount for (of, where), amount in found.items() if of == entry.id}
            assert sum(own.values()) == 0 and len(own) > 1, entry.kind
            kinds[f"{entry.kind} {entry.paid_by}".strip()] = own
        invoices = session.scalars(select(Invoice).where(Invoice.number.is_not(None))).all()
        notes = session.scalars(select(CreditNote)).all()
        owed = sum(i.total for i in invoices) - sum(n.total for n in notes)
        tax = sum(i.tax for i in invoices) - sum(n.tax for n in notes)
        money = Decimal("500") - Decimal("7.50") + kinds["payment card"]["card clearing"]
        receivable = sum(amount for (_, where), amount in found.items() if where == "receivable")
        assert receivable == owed - money - kinds["write-off"]["losses"]
        assert tax == -sum(amount for (_, where), amount in found.items() if where.startswith("tax "))
    assert set(kinds) == {
        "invoice",
        "credit note",
        "payment transfer",
        "payment card",
        "returned payment transfer",
        "refund transfer",
        "write-off",
    }
    assert kinds["refund transfer"] == {"bank": Decimal("-7.5"), "receivable": Decimal("7.5")}
    assert kinds["returned payment transfer"] == {"bank": Decimal(-10), "receivable": Decimal(10)}


def test_revenue_is_told_apart_by_product_and_what_belongs_to_none_is_beside_it(office: Office) -> None:
    lived(office)
    with office.ctx.transaction() as session:
        places = {where for _, where in posted(session)}
        first = session.scalars(select(Ledger).where(Ledger.product_id.is_not(None))).first()
        assert first is not None
    assert {f"revenue of product {first.product_id}", "revenue", "tax standard 23.0000"} <= places


def test_what_was_booked_before_there_was_a_journal_is_posted_as_it_would_be_now(office: Office) -> None:
    lived(office)
    migration: Any = import_module("calm_tariff.store.migrations.versions.0053_journal")
    with office.ctx.transaction() as session:
        by_code = posted(session)
        session.execute(delete(Posting))
        session.execute(delete(Ledger).where(Ledger.role != Ledger.stands_for))
        session.execute(delete(JournalMonth))
        for statement in migration._BOOKED:
            session.execute(text(statement))
        assert posted(session) == by_code
        assert list(session.scalars(select(JournalMonth.start).order_by(JournalMonth.start))) == [OCTOBER, NOVEMBER]
        assert [len(list(entries.every(session, start))) for start in (OCTOBER, NOVEMBER)] == [2, 9]


def test_entries_of_many_at_once_are_posted_once_each(office: Office) -> None:
    office.clock.now = LATER
    with office.ctx.transaction() as session:
        session.execute(delete(Ledger).where(Ledger.role != Ledger.stands_for))
    at_once(office.ctx, lambda n: pay(office, "1.00", n=n % 2), 6)
    issued(office)
    with office.ctx.transaction() as session:
        found = posted(session)
        assert sum(found.values()) == 0
        assert len({entry for entry, _ in found}) == len(session.scalars(select(AccountEntry.id)).all()) == 8


def test_a_document_that_does_not_add_up_is_not_booked(office: Office) -> None:
    office.clock.now = LATER
    charging.run(office.finance, SEPTEMBER)
    drafts = period(office, SEPTEMBER).drafts
    with office.ctx.transaction() as session:
        session.get_one(Invoice, drafts[0]).lines[0].amount += Decimal("0.01")
    with pytest.raises(Invalid, match="out of balance"):
        issuing.issue(office.finance, drafts)
    with office.ctx.transaction() as session:
        assert session.scalars(select(Invoice.number)).all() == [None, None]
