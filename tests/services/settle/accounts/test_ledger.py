"""One account as it is read: entry by entry, with where each went."""

from __future__ import annotations

from dataclasses import replace
from decimal import Decimal

import pytest

from calm_tariff.core.billing.documents.credit_notes import Taken
from calm_tariff.core.errors import Invalid, NotAllowed, NotFound
from calm_tariff.services.observe import merging
from calm_tariff.services.settle.accounts import ledger, payments, reminding
from calm_tariff.services.settle.documents import credit_notes, invoices
from calm_tariff.services.settle.documents.credit_notes import Wanted
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office
from tests.services.months import LATER, OCTOBER, issued
from tests.services.queries import asked
from tests.services.settle.accounts.owing import account, at, entries, pay, whose

SEPTEMBERS, OCTOBERS = Decimal("34.44"), Decimal("49.20")


@pytest.fixture
def lived(office: Office) -> Office:
    """Ferries: two invoices, a payment of both and more, one that went back, a credit note, a refund."""
    office.clock.now = LATER
    issued(office)
    back = pay(office, "10.00")
    payments.went_back(office.finance, back, "No cover.")
    at(office, 2026, 11, 3)
    issued(office, OCTOBER)
    pay(office, "90.00")
    first = invoices.one(office.finance, account_entry(office, "INV-2026-00001"))
    taken = Wanted(reason="It was down.", lines=(Taken(line=first.lines[0].id, amount=Decimal("10.00")),))
    credit_notes.issue(office.finance, first.summary.id, taken)
    money = payments.Money(amount=Decimal("5.00"), value_on=office.clock.now.date())
    payments.refund(office.finance, whose(office), money)
    return office


def account_entry(office: Office, number: str) -> int:
    return next(e.document_id or 0 for e in entries(office) if e.number == number)


def test_the_balance_after_each_entry_is_the_same_on_whichever_page_it_stands(lived: Office) -> None:
    whole = entries(lived)
    assert [(e.kind, e.amount) for e in whole] == [
        ("invoice", SEPTEMBERS),
        ("payment", Decimal(-10)),
        ("returned payment", Decimal(10)),
        ("invoice", OCTOBERS),
        ("payment", Decimal(-90)),
        ("credit note", Decimal("-12.30")),
        ("refund", Decimal(5)),
    ]
    for down, sort in ((False, "oldest"), (False, "newest"), (True, "oldest")):
        found, cursor = [], None
        while True:
            wanted = PageQuery(sort=sort, down=down, rows=2, cursor=cursor)
            page = ledger.entries(lived.finance, whose(lived), wanted)
            assert page.total == len(whole)
            found += page.rows
            cursor = page.next
            if cursor is None:
                break
        assert {e.id: e.balance for e in found} == {e.id: e.balance for e in whole}
        assert len(found) == len(whole)
    assert account(lived).balance == whole[-1].balance == SEPTEMBERS + OCTOBERS - 90 - Decimal("12.30") + 5
    with pytest.raises(Invalid):
        ledger.entries(lived.finance, whose(lived), PageQuery(sort="size"))


def test_where_each_entry_went_comes_to_its_amount(lived: Office) -> None:
    for entry in entries(lived):
        if entry.kind in ("invoice", "payment", "credit note") and not entry.went_back:
            assert sum(part.amount for part in entry.parts) + entry.left == abs(entry.amount), entry
    returned = next(e for e in entries(lived) if e.went_back)
    assert (returned.parts, returned.left) == ([], 0)
    payment = next(e for e in entries(lived) if e.amount == -90)
    assert [(p.number, p.amount) for p in payment.parts] == [
        ("INV-2026-00001", SEPTEMBERS),
        ("INV-2026-00003", OCTOBERS),
        ("", Decimal("5.00")),
    ]
    first = next(e for e in entries(lived) if e.number == "INV-2026-00001")
    assert [(p.kind, p.amount) for p in first.parts] == [("payment", SEPTEMBERS)]  # what went back is left out


def test_only_ones_own_account_is_read_and_nobody_of_the_provider_is_named(lived: Office) -> None:
    ferries, kayaks = (lived.acting(consumer) for consumer in lived.consumers)
    assert ledger.own(ferries).balance == account(lived).balance
    assert {e.made_by for e in ledger.own_entries(ferries, PageQuery(rows=100)).rows} == {""}
    assert [e.number for e in ledger.own_entries(kayaks, PageQuery(rows=100)).rows] == [
        "INV-2026-00004",
        "INV-2026-00002",
    ]
    with pytest.raises(NotFound):
        ledger.one(lived.finance, 99_999)
    with pytest.raises(NotFound):
        ledger.entries(lived.finance, 99_999, PageQuery())
    developer = lived.ctx.acting(replace(lived.consumers[0].member, membership="developer"))
    for read in (ledger.own, lambda ctx: ledger.own_entries(ctx, PageQuery())):
        with pytest.raises(NotAllowed):
            read(developer)


def test_a_merged_account_reads_as_one(lived: Office) -> None:
    merging.merge(lived.manager, whose(lived), whose(lived, 1), "Ferries")
    both = entries(lived, 1)
    assert [e.number for e in both if e.kind == "invoice"] == [f"INV-2026-0000{n}" for n in (1, 2, 3, 4)]
    assert both[-1].balance == account(lived, 1).balance
    # What was credit of the one has paid what was open of the other.
    assert account(lived, 1).credit == 0
    assert account(lived, 1).open == 2 * (SEPTEMBERS + OCTOBERS) - 90 - Decimal("12.30") + 5


def test_an_account_says_what_is_open_how_old_it_is_and_when_it_was_reminded_of(office: Office) -> None:
    office.clock.now = LATER
    issued(office)
    at(office, 2026, 11, 28)
    reminding.look(office.ctx)
    (open_one,) = account(office).invoices
    assert (open_one.age, open_one.state, open_one.open) == ("31-60", "overdue", SEPTEMBERS)
    assert [r.after_days for r in open_one.reminders] == [20]
    assert [p.end_at for p in account(office).pauses] == [None]


def test_a_long_account_takes_the_same_queries_as_a_short_one(lived: Office) -> None:
    with asked(lived.ctx) as before:
        ledger.entries(lived.finance, whose(lived), PageQuery())
    for n in range(10):
        pay(lived, f"{n + 1}.00")
    with asked(lived.ctx) as after:
        ledger.entries(lived.finance, whose(lived), PageQuery())
    assert len(after) <= len(before)
