"""Everybody's accounts by what is open and how old it is."""

from __future__ import annotations

from datetime import date, timedelta
from decimal import Decimal

import pytest

from calm_tariff.core.errors import Invalid, NotSignedIn
from calm_tariff.services.observe import merging
from calm_tariff.services.settle.accounts import aging, ledger, reminding
from calm_tariff.services.settle.accounts.aging import Accounts
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office
from tests.services.months import LATER, OCTOBER, issued
from tests.services.queries import asked
from tests.services.settle.accounts.owing import at, pay, whose

EACH, OCTOBERS = Decimal("34.44"), Decimal("49.20")


def listed(office: Office, **wanted: object) -> Accounts:
    return aging.listed(office.finance, PageQuery(**wanted))  # type: ignore[arg-type]


def ages(office: Office, name: str = "Ferries") -> list[Decimal]:
    (row,) = [r for r in listed(office).rows if r.consumer == name]
    return [row.not_due, row.to_30, row.to_60, row.to_90, row.older]


@pytest.mark.parametrize(
    ("days", "place"), [(-1, 0), (0, 1), (30, 1), (31, 2), (60, 2), (61, 3), (90, 3), (91, 4), (900, 4)]
)
def test_what_is_open_stands_under_its_age(office: Office, days: int, place: int) -> None:
    office.clock.now = LATER
    issued(office)
    due = ledger.one(office.finance, whose(office)).invoices[0].due_on
    office.clock.now = LATER + timedelta(days=(due - LATER.date()).days + days)
    found = ages(office)
    assert found[place] == sum(found) == EACH


def test_accounts_stand_in_the_order_of_how_late_they_are(office: Office) -> None:
    office.clock.now = LATER
    issued(office)
    at(office, 2026, 11, 3)
    issued(office, OCTOBER)
    pay(office, "40.00")
    pay(office, "200.00", n=1)
    reminding.look(office.ctx)
    found = listed(office)
    assert [(r.consumer, r.balance, r.credit, r.oldest_due, r.reminders) for r in found.rows] == [
        ("Ferries", EACH + OCTOBERS - 40, 0, date(2026, 11, 17), 0),
        ("Kayaks", EACH + OCTOBERS - 200, 200 - EACH - OCTOBERS, None, 0),
    ]
    together = found.together
    assert together.balance == sum(r.balance for r in found.rows) == together.open - together.credit
    assert together.open == sum((together.not_due, together.to_30, together.to_60, together.to_90, together.older))
    assert [r.consumer for r in listed(office, sort="consumer", down=True).rows] == ["Kayaks", "Ferries"]
    assert [r.consumer for r in listed(office, words="kay").rows] == ["Kayaks"]
    assert [r.consumer for r in listed(office, sort="oldest").rows] == ["Ferries", "Kayaks"]
    first = listed(office, rows=1)
    assert [r.consumer for r in listed(office, rows=1, cursor=first.next).rows] == ["Kayaks"]
    with pytest.raises(Invalid):
        listed(office, sort="size")


def test_a_merged_account_is_part_of_the_other(office: Office) -> None:
    office.clock.now = LATER
    issued(office)
    merging.merge(office.manager, whose(office), whose(office, 1), "Ferries")
    (row,) = listed(office).rows
    assert (row.consumer, row.open, row.balance) == ("Kayaks", EACH * 2, EACH * 2)


def test_who_is_owed_nothing_yet_is_not_listed_and_consumers_see_no_list(office: Office) -> None:
    assert listed(office).rows == []
    assert listed(office).together.balance == 0
    with pytest.raises(NotSignedIn):
        aging.listed(office.acting(office.consumers[0]), PageQuery())


def test_a_page_takes_the_same_queries_however_many_accounts_there_are(office: Office) -> None:
    office.clock.now = LATER
    issued(office)
    with asked(office.ctx) as before:
        listed(office)
    for n in range(6):
        office.admit(f"Boats{n}", "Ketch")
    at(office, 2026, 11, 3)
    issued(office, OCTOBER)
    with asked(office.ctx) as after:
        listed(office)
    assert len(listed(office).rows) == 8
    assert len(after) <= len(before)
