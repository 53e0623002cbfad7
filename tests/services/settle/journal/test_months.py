"""Months of the journal: what they hold, their files, and that a closed one stays as it is."""

from __future__ import annotations

import csv
import hashlib
import io
from datetime import date
from decimal import Decimal
from threading import Event, Thread

import pytest
from beancount import loader
from beancount.core.data import Transaction
from sqlalchemy import delete, select

from calm_tariff.core.billing.accounts.payments import Money
from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, NotSignedIn
from calm_tariff.services.settle.accounts import booking
from calm_tariff.services.settle.journal import chart, entries, months
from calm_tariff.services.settle.journal.months import JournalMonthDetail
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.settle.journal import JournalMonth, Ledger, Posting
from tests.office import Office
from tests.services.months import LATER, OCTOBER, issued
from tests.services.queries import asked
from tests.services.settle.accounts.owing import at, pay, today, whose
from tests.services.settle.journal.lived import lived

NOVEMBER, DECEMBER = date(2026, 11, 1), date(2026, 12, 1)


@pytest.fixture
def over(office: Office) -> Office:
    """Early in December, when October and November are over."""
    lived(office)
    at(office, 2026, 12, 2)
    return office


def text_of(office: Office, start: date, form: months.Form = "text") -> str:
    return b"".join(months.file(office.finance, start, form)).decode()


def sums(of: JournalMonthDetail) -> dict[str, Decimal]:
    assert len({each.account for each in of.accounts}) == len(of.accounts)
    return {each.account: each.balance for each in of.accounts}


def ledger_id(office: Office, stands_for: str) -> int:
    chart.listed(office.finance)
    with office.ctx.transaction() as session:
        return session.scalars(select(Ledger.id).where(Ledger.stands_for == stands_for)).one()


def test_a_month_is_the_same_on_the_page_in_the_csv_and_in_a_program_of_plain_text_accounting(over: Office) -> None:
    assert [m.start for m in months.listed(over.finance)] == [NOVEMBER, OCTOBER]
    chart.rename(over.finance, ledger_id(over, "bank"), "Assets:Bank:8833")
    text = months.accounts(over.finance) + text_of(over, OCTOBER) + text_of(over, NOVEMBER)
    found, errors, _ = loader.load_string(text)
    assert not errors
    for start in (OCTOBER, NOVEMBER):
        page = months.one(over.finance, start)
        assert page.month.debit == page.month.credit > 0
        by_program: dict[str, Decimal] = {}
        booked = [each for each in found if isinstance(each, Transaction) and each.date.month == start.month]
        for each in booked:
            for p in each.postings:
                by_program[p.account] = by_program.get(p.account, Decimal(0)) + p.units.number
        by_csv: dict[str, Decimal] = {}
        rows = list(csv.DictReader(io.StringIO(text_of(over, start, "csv"))))
        for row in rows:
            amount = Decimal(row["debit"] or 0) - Decimal(row["credit"] or 0)
            by_csv[row["account"]] = by_csv.get(row["account"], Decimal(0)) + amount
        assert by_program == by_csv == sums(page)
        assert len(booked) == len({row["entry"] for row in rows}) == page.month.entries
    assert "Assets:Bank:8833" in sums(page)


def test_entries_can_be_narrowed_to_an_account_or_to_words(over: Office) -> None:
    every = entries.listed(over.finance, NOVEMBER, PageQuery())
    assert every.total == 9 and [e.id for e in every.rows] == sorted(e.id for e in every.rows)
    lost = entries.listed(over.finance, NOVEMBER, PageQuery(), "Expenses:Losses")
    assert [(e.kind, e.consumer, e.reference) for e in lost.rows] == [("write-off", "Kayaks", "INV-2026-00002")]
    theirs = entries.listed(over.finance, NOVEMBER, PageQuery(words="kayak"))
    assert {e.consumer for e in theirs.rows} == {"Kayaks"}
    by_number = entries.listed(over.finance, NOVEMBER, PageQuery(words="cn-2026"))
    assert [(e.kind, e.reference) for e in by_number.rows] == [("credit note", "CN-2026-00001")]
    one = entries.listed(over.finance, NOVEMBER, PageQuery(rows=4))
    rest = entries.listed(over.finance, NOVEMBER, PageQuery(rows=100, cursor=one.next))
    assert [e.id for e in (*one.rows, *rest.rows)] == [e.id for e in every.rows]
    with asked(over.ctx) as few:
        entries.listed(over.finance, NOVEMBER, PageQuery(rows=2))
    with asked(over.ctx) as many:
        entries.listed(over.finance, NOVEMBER, PageQuery(rows=9))
    assert len(few) == len(many)


def test_a_closed_month_stays_as_it_is_whatever_is_renamed_later(over: Office) -> None:
    before, rows = text_of(over, OCTOBER), text_of(over, OCTOBER, "csv")
    closed = months.close(over.finance, OCTOBER)
    assert closed.month.digest == hashlib.sha256(before.encode()).hexdigest()
    assert (closed.month.closed_by, closed.month.entries) == (over.finance.actor.name, 2)
    for stands_for, name in (("receivable", "Assets:1200"), ("tax", "Liabilities:1776"), ("revenue", "Income:4400")):
        chart.rename(over.finance, ledger_id(over, stands_for), name)
    with over.ctx.transaction() as session:
        for consumer in session.scalars(select(Consumer)):
            consumer.name = f"Another {consumer.id}"
    assert (text_of(over, OCTOBER), text_of(over, OCTOBER, "csv")) == (before, rows)
    assert "Assets:Receivable" in sums(months.one(over.finance, OCTOBER))
    assert "Assets:1200" in sums(months.one(over.finance, NOVEMBER))
    (shown,) = entries.listed(over.finance, OCTOBER, PageQuery(rows=1)).rows
    assert shown.postings[0].account == "Assets:Receivable"
    # Both are one file for whoever reads them: each name was opened in the month that first used it.
    _, errors, _ = loader.load_string(months.accounts(over.finance) + text_of(over, OCTOBER) + text_of(over, NOVEMBER))
    assert not errors


def test_months_are_closed_in_order_once_they_are_over(over: Office) -> None:
    pay(over, "1.00")
    with pytest.raises(Conflict, match="October 2026, which is not closed"):
        months.close(over.finance, NOVEMBER)
    months.close(over.finance, OCTOBER)
    with pytest.raises(Conflict, match="closed already, by"):
        months.close(over.finance, OCTOBER)
    months.close(over.finance, NOVEMBER)
    with pytest.raises(Conflict, match="once December is over"):
        months.close(over.finance, DECEMBER)
    with pytest.raises(NotFound):
        months.close(over.finance, date(2027, 1, 1))
    with pytest.raises(Invalid, match="first of a month"):
        months.close(over.finance, date(2026, 10, 2))
    assert [(m.start, bool(m.closed_at), m.over) for m in months.listed(over.finance)] == [
        (DECEMBER, False, False),
        (NOVEMBER, True, True),
        (OCTOBER, True, True),
    ]


def test_nothing_is_booked_in_a_closed_month(over: Office) -> None:
    months.close(over.finance, OCTOBER)
    months.close(over.finance, NOVEMBER)
    at(over, 2026, 11, 30)  # a clock that went back
    with pytest.raises(Conflict, match="journal of November 2026: is closed"):
        pay(over, "1.00")
    assert months.one(over.finance, NOVEMBER).month.entries == 9


def test_closing_waits_for_what_is_just_being_booked(office: Office) -> None:
    office.clock.now = LATER
    issued(office)
    began, go_on = Event(), Event()

    def book() -> None:

        with office.ctx.transaction() as session:
            owner = booking.held(session, whose(office))
            booking.paid(session, slow, owner, Money(amount=Decimal(1), value_on=today(office)), "transfer")
            began.set()
            assert go_on.wait(60)

    slow = office.finance
    booking_thread = Thread(target=book)
    booking_thread.start()
    assert began.wait(60)
    office.clock.forward(days=31)
    closed: list[JournalMonthDetail] = []
    closing = Thread(target=lambda: closed.append(months.close(office.finance, OCTOBER)))
    closing.start()
    closing.join(0.5)
    assert not closed
    go_on.set()
    booking_thread.join(60)
    closing.join(60)
    assert closed[0].month.entries == 3


def test_what_does_not_balance_is_not_closed(over: Office) -> None:
    with over.ctx.transaction() as session:
        some = session.scalars(select(Posting).order_by(Posting.entry_id)).first()
        assert some is not None
        some.amount += Decimal("0.01")
        entry = some.entry_id
    with pytest.raises(Conflict, match=rf"entry {entry} of October 2026.*0\.0100 out of balance"):
        months.close(over.finance, OCTOBER)
    with over.ctx.transaction() as session:
        session.execute(delete(Posting).where(Posting.entry_id == entry))
    with pytest.raises(Conflict, match=rf"entry {entry} of October 2026.*posts nothing"):
        months.close(over.finance, OCTOBER)
    with over.ctx.transaction() as session:
        assert session.scalars(select(JournalMonth.closed_at)).all() == [None, None]


def test_accounts_are_named_by_product_and_by_tax_rule(over: Office) -> None:
    listed = chart.listed(over.finance)
    assert {(a.role, a.product, a.percent) for a in listed} >= {
        ("receivable", "", None),
        ("bank", "", None),
        ("card clearing", "", None),
        ("losses", "", None),
        ("tax", "", Decimal(23)),
        ("revenue", "Harbour Data", None),
    }
    harbour = next(a for a in listed if a.product == "Harbour Data")
    assert (harbour.name, harbour.own) == ("Income:Revenue", False)
    assert chart.rename(over.finance, harbour.id, " Income:Harbour ").name == "Income:Harbour"
    assert "Income:Harbour" in text_of(over, NOVEMBER)
    general = next(a for a in listed if a.role == "revenue" and not a.product)
    chart.rename(over.finance, general.id, "Income:4400")
    assert chart.rename(over.finance, harbour.id, "").name == "Income:4400"
    with pytest.raises(Invalid, match="Income:Revenue"):
        chart.rename(over.finance, harbour.id, "Harbour")
    with pytest.raises(NotFound):
        chart.rename(over.finance, 999, "Income:A")


def test_only_finance_closes_and_names(over: Office) -> None:
    for work in (lambda: months.close(over.manager, OCTOBER), lambda: chart.rename(over.manager, 1, "Assets:A")):
        with pytest.raises(NotAllowed):
            work()
    member = over.acting(over.consumers[0])
    for read in (months.listed, chart.listed, months.accounts):
        with pytest.raises((NotAllowed, NotSignedIn)):
            read(member)
