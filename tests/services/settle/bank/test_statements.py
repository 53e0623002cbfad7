"""Statements brought in: each entry once, what is beyond doubt booked, the rest left to a person."""

from __future__ import annotations

from decimal import Decimal

import pytest
from sqlalchemy import func, select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound
from calm_tariff.formats.bank_csv import Columns
from calm_tariff.services.base.context import provider_of
from calm_tariff.services.settle.bank import entries, statements, views
from calm_tariff.services.settle.bank.entries import Part
from calm_tariff.services.settle.bank.statements import StatementView
from calm_tariff.services.settle.bank.views import BankEntryView
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.settle.accounts import AccountEntry
from calm_tariff.store.settle.bank import BankEntry
from tests.formats.camt_files import IBAN, Sent, camt
from tests.office import Office
from tests.services.months import LATER, at_once, issued
from tests.services.queries import asked
from tests.services.settle.accounts.owing import account, agrees, at, pay, whose
from tests.services.settle.accounts.owing import entries as account_entries

PAID = Sent("B1", "34.44", "RF76 INV2 0260 0001")
WRONG = Sent("B2", "34.44", "your invoice of September", name="Kayaks Lda")
FEES = Sent("B3", "-5.00", "Fees", name="The bank")


@pytest.fixture
def owing(office: Office) -> Office:
    """Both consumers owe 34.44, by INV-2026-00001 and -00002."""
    office.clock.now = LATER
    issued(office)
    with office.ctx.transaction() as session:
        provider_of(session).iban = IBAN
    at(office, 2026, 10, 6)
    return office


def bring(office: Office, *sent: Sent, name: str = "october.xml") -> StatementView:
    return statements.bring_in(office.finance, name, camt(*sent), "camt.053")


def waiting(office: Office) -> list[BankEntryView]:
    return views.listed(office.finance, PageQuery(sort="oldest"), waiting=True).rows


def done(office: Office) -> list[BankEntryView]:
    return views.listed(office.finance, PageQuery(sort="oldest"), waiting=False).rows


def test_what_pays_an_invoice_beyond_doubt_is_booked_and_the_rest_waits(owing: Office) -> None:
    found = bring(owing, PAID, WRONG, FEES)
    assert (found.new, found.matched, found.known, found.unread) == (3, 1, 0, [])
    assert account(owing).balance == 0
    (payment,) = [e for e in account_entries(owing) if e.kind == "payment"]
    assert (payment.names, payment.reference, payment.made_by) == (
        "INV-2026-00001",
        "RF76 INV2 0260 0001",
        "Calm Tariff",
    )
    kayaks, fees = waiting(owing)
    assert [(g.number, g.consumer, g.why) for g in kayaks.guesses] == [("INV-2026-00002", "Kayaks", ["amount", "name"])]
    assert (fees.amount, fees.guesses) == (Decimal(-5), [])
    (matched,) = done(owing)
    assert [(b.consumer, b.names, b.amount) for b in matched.booked] == [
        ("Ferries", "INV-2026-00001", Decimal("34.44"))
    ]
    agrees(owing, whose(owing))


def test_an_entry_counts_once_however_often_and_by_whomever_it_is_brought_in(owing: Office) -> None:
    def one(_: int) -> int:
        try:
            return bring(owing, PAID, WRONG).new
        except Conflict:
            return 0

    assert sum(at_once(owing.finance, one, 4)) == 2
    again = bring(owing, WRONG, PAID, FEES)
    assert (again.new, again.known) == (1, 2)
    assert account(owing).balance == 0
    with owing.ctx.transaction() as session:
        assert session.scalar(select(func.count()).where(AccountEntry.kind == "payment")) == 1


def test_what_differs_from_what_the_bank_said_before_is_told_and_changes_nothing(owing: Office) -> None:
    bring(owing, WRONG)
    other = Sent("B2", "30.00", WRONG.text, name=WRONG.name)
    found = bring(owing, other, Sent("B9", "1.00"), Sent("B9", "2.00"), Sent("B8", "1.00", currency="USD"))
    assert (found.new, found.known) == (1, 1)
    assert [(u.where, u.what) for u in found.unread] == [
        ("reference B9", "says something else than another entry of the same reference"),
        ("reference B8", "is in USD, and the house's is EUR"),
        ("reference B2", "differs from what the bank said of it before; that stays"),
    ]
    assert [(e.reference, e.amount) for e in waiting(owing)] == [("B2", Decimal("34.44")), ("B9", Decimal(1))]


def test_a_statement_of_another_account_is_refused_and_nothing_is_kept(owing: Office) -> None:
    with pytest.raises(Conflict, match="is of DE89370400440532013000"):
        statements.bring_in(owing.finance, "x", camt(PAID, iban="DE89370400440532013000"), "camt.053")
    with pytest.raises(Invalid):
        statements.bring_in(owing.finance, "x", "<a", "camt.053")
    with pytest.raises(NotAllowed):
        statements.bring_in(owing.reviewer, "x", camt(PAID), "camt.053")
    assert statements.listed(owing.finance, PageQuery()).total == 0
    assert waiting(owing) == []


def test_which_column_is_what_is_said_once(owing: Office) -> None:
    text = "day;amount;what\n2026-10-05;34.44;INV-2026-00002\n2026-10-05;1.00;hello\n"
    with pytest.raises(Invalid, match="say which column is what"):
        statements.bring_in(owing.finance, "a.csv", text, "csv")
    columns = Columns(booked_on="Day", amount="amount", text="what")
    assert statements.bring_in(owing.finance, "a.csv", text, "csv", columns).matched == 1
    kept = statements.columns_of(owing.finance)
    assert kept is not None and kept.booked_on == "day"
    again = statements.bring_in(owing.finance, "b.csv", text + "2026-10-06;2.00;more\n", "csv")
    assert (again.new, again.known) == (1, 2)
    assert account(owing, 1).balance == 0


def test_an_entry_is_split_between_consumers(owing: Office) -> None:
    bring(owing, Sent("B4", "60.00", "both of us", name="A holding"))
    (entry,) = waiting(owing)
    invoice = account(owing, 1).invoices[0].id
    parts = [
        Part(consumer_id=whose(owing), amount=Decimal("25.56")),
        Part(consumer_id=whose(owing, 1), amount=Decimal("34.44"), invoice_id=invoice),
    ]
    at_once(owing.finance, lambda _: entries.assign(owing.finance, entry.id, parts, "k"), 3)
    assert (account(owing).balance, account(owing, 1).balance) == (Decimal("8.88"), 0)
    (after,) = done(owing)
    assert (after.state, after.decided_by, [b.consumer for b in after.booked]) == (
        "assigned",
        "Beatriz",
        ["Ferries", "Kayaks"],
    )
    with pytest.raises(Conflict, match="is assigned and waits for nobody"):
        entries.assign(owing.finance, entry.id, parts)
    for n in (0, 1):
        agrees(owing, whose(owing, n))


def test_two_who_decide_at_once_book_it_once(owing: Office) -> None:
    bring(owing, WRONG)
    (entry,) = waiting(owing)

    def one(n: int) -> bool:
        try:
            entries.assign(owing.finance, entry.id, [Part(consumer_id=whose(owing, n % 2), amount=Decimal("34.44"))])
        except Conflict:
            return False
        return True

    assert at_once(owing.finance, one, 4).count(True) == 1
    assert account(owing).balance + account(owing, 1).balance == Decimal("34.44")


@pytest.mark.parametrize(
    ("parts", "where"),
    [
        ([], "parts"),
        ([(0, "34.43")], "parts"),
        ([(0, "34.44"), (0, "0")], "parts[1].amount"),
        ([(0, "40.00"), (0, "-5.56")], "parts[1].amount"),
        ([(0, "34.4400001")], "parts[0].amount"),
        ([(9, "34.44")], "parts"),
    ],
)
def test_parts_come_to_the_entry(owing: Office, parts: list[tuple[int, str]], where: str) -> None:
    bring(owing, WRONG)
    (entry,) = waiting(owing)
    whom = {0: whose(owing), 9: 99_999}
    wanted = [Part(consumer_id=whom[n], amount=Decimal(amount)) for n, amount in parts]
    with pytest.raises(Invalid) as refused:
        entries.assign(owing.finance, entry.id, wanted)
    assert refused.value.where == where
    assert account(owing).balance == Decimal("34.44")


def test_a_part_names_an_invoice_of_the_same_consumer(owing: Office) -> None:
    bring(owing, WRONG)
    (entry,) = waiting(owing)
    other = account(owing, 1).invoices[0].id
    with pytest.raises(Invalid) as refused:
        entries.assign(
            owing.finance, entry.id, [Part(consumer_id=whose(owing), amount=Decimal("34.44"), invoice_id=other)]
        )
    assert refused.value.where == "parts[0].invoice_id"


def test_what_went_out_is_a_refund_of_credit_that_is_there(owing: Office) -> None:
    bring(owing, FEES)
    (entry,) = waiting(owing)
    part = [Part(consumer_id=whose(owing), amount=Decimal("5.00"))]
    with pytest.raises(Invalid, match="more than the credit on account"):
        entries.assign(owing.finance, entry.id, part)
    pay(owing, "40.00")
    entries.assign(owing.finance, entry.id, part)
    assert account(owing).credit == Decimal("0.56")
    with pytest.raises(Conflict, match="was paid out"):
        entries.take_back(owing.finance, entry.id, "A mistake.")


def test_what_is_put_aside_can_wait_again(owing: Office) -> None:
    bring(owing, WRONG, FEES)
    wrong, fees = waiting(owing)
    entries.send_back(owing.finance, wrong.id, "Nobody knows them.")
    entries.leave_alone(owing.finance, fees.id, "Ours.")
    assert [(e.state, e.why) for e in done(owing)] == [("sent back", "Nobody knows them."), ("left alone", "Ours.")]
    with pytest.raises(Conflict):
        entries.send_back(owing.finance, wrong.id, "Again.")
    entries.take_back(owing.finance, fees.id, "Not ours.")
    with pytest.raises(Conflict, match="went out: there is nothing to send back"):
        entries.send_back(owing.finance, fees.id, "No.")
    with pytest.raises(Invalid) as refused:
        entries.leave_alone(owing.finance, fees.id, " ")
    assert refused.value.where == "why"
    with pytest.raises(NotFound):
        entries.leave_alone(owing.finance, 99_999, "Why not.")
    with pytest.raises(NotAllowed):
        entries.leave_alone(owing.reviewer, fees.id, "Why not.")


def test_what_was_matched_wrongly_goes_back_and_waits_again(owing: Office) -> None:
    bring(owing, PAID)
    (entry,) = done(owing)
    entries.take_back(owing.finance, entry.id, "It was for somebody else.")
    assert account(owing).balance == Decimal("34.44")
    (again,) = waiting(owing)
    assert [(b.kind, b.amount) for b in again.booked] == [("payment", Decimal("34.44"))]
    entries.assign(owing.finance, again.id, [Part(consumer_id=whose(owing, 1), amount=Decimal("34.44"))])
    assert account(owing, 1).balance == 0
    entries.take_back(owing.finance, again.id, "No, it was right.")
    assert account(owing, 1).balance == Decimal("34.44")
    agrees(owing, whose(owing, 1))


def test_what_was_brought_in_and_not_looked_at_is_looked_at_later_once(owing: Office) -> None:
    """As where whoever brought it in died on the way."""
    bring(owing, PAID)
    (entry,) = done(owing)
    entries.take_back(owing.finance, entry.id, "Look again.")
    with owing.ctx.transaction() as session:
        session.get_one(BankEntry, entry.id).state = "new"
    assert sum(at_once(owing.ctx, lambda _: entries.match_new(owing.ctx), 3)) == 1
    assert account(owing).balance == 0


def test_one_that_pays_the_same_once_more_waits(owing: Office) -> None:
    found = bring(owing, PAID, Sent("B7", "34.44", "INV-2026-00001"))
    assert (found.new, found.matched) == (2, 1)
    assert [e.reference for e in waiting(owing)] == ["B7"]
    agrees(owing, whose(owing))


def test_lists_take_the_same_queries_however_long_they_are(owing: Office) -> None:
    def asks() -> list[int]:
        counts = []
        for read in (
            lambda: waiting(owing),
            lambda: done(owing),
            lambda: statements.listed(owing.finance, PageQuery()),
        ):
            with asked(owing.ctx) as found:
                read()
            counts.append(len(found))
        return counts

    bring(owing, PAID, WRONG)
    before = asks()
    for n in range(8):
        bring(owing, Sent(f"C{n}", "1.00", "thanks"), Sent(f"D{n}", "34.44", "INV-2026-00002"), name=f"{n}.xml")
    assert (len(waiting(owing)), statements.listed(owing.finance, PageQuery()).total) == (16, 9)
    assert asks() == before


def test_what_was_paid_meanwhile_is_not_sure(owing: Office) -> None:
    pay(owing, "1.00", account(owing).invoices[0].id)
    found = bring(owing, PAID)
    assert found.matched == 0
    (entry,) = waiting(owing)
    assert next((g.number, g.open, g.why) for g in entry.guesses) == (
        "INV-2026-00001",
        Decimal("33.44"),
        ["reference", "name"],
    )
