"""What is open, by whom it was closed, and what a day finds of it."""

from datetime import date, timedelta
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.billing.accounts.account import (
    Account,
    Credited,
    Entry,
    Invoiced,
    Paid,
    Refunded,
    Returned,
    WrittenOff,
    by_number,
    settled,
)
from calm_tariff.core.errors import Invalid

FIRST = date(2026, 10, 1)


def day(n: int) -> date:
    return FIRST + timedelta(days=n)


def invoice(n: int, on: int = 0, due: int = 14, amount: int = 100) -> Invoiced:
    return Invoiced(id=f"INV-2026-{n:05d}", on=day(on), due=day(due), amount=Decimal(amount))


def named(n: int) -> str:
    return f"INV-2026-{n:05d}"


def paid(amount: int, on: int = 1, n: int | None = None) -> Paid:
    return Paid(on=day(on), amount=Decimal(amount), for_=named(n) if n else None)


def credited(amount: int, on: int, n: int) -> Credited:
    return Credited(on=day(on), amount=Decimal(amount), for_=named(n))


def after(*entries: Entry, as_of: int = 100) -> Account:
    return settled(entries, day(as_of), "EUR")


def allocations(account: Account) -> list[tuple[int, str | None, int]]:
    return [(a.entry, a.invoice and a.invoice[-1], int(a.amount)) for a in account.allocations]


def test_a_payment_goes_to_the_invoice_it_names_and_what_is_left_to_the_earliest_due() -> None:
    found = after(invoice(1, due=20), invoice(2, due=10), invoice(3, due=10), paid(330, n=1))
    assert allocations(found) == [(3, "1", 100), (3, "2", 100), (3, "3", 100)]
    assert (found.balance, found.credit) == (Decimal("-30.00"), Decimal("30.00"))


def test_of_invoices_due_on_one_day_the_lower_number_comes_first() -> None:
    many = [Invoiced(id=f"INV-2026-{n}", on=day(0), due=day(9), amount=Decimal(5)) for n in (100_000, 99_999)]
    assert [a.invoice for a in after(*many, paid(6)).allocations] == ["INV-2026-99999", "INV-2026-100000"]
    assert by_number("INV-2026-00017") < by_number("INV-2026-00100") < by_number("INV-2027-00001")


def test_credit_on_account_is_used_by_the_next_invoice_at_once_the_oldest_first() -> None:
    found = after(paid(30, on=0), paid(50, on=1), invoice(1, on=2, amount=60), invoice(2, on=3, amount=100))
    assert allocations(found) == [(0, "1", 30), (1, "1", 30), (1, "2", 20)]
    assert (found.balance, found.credit) == (Decimal("80.00"), Decimal("0.00"))
    assert [i.state for i in found.invoices] == ["paid", "overdue"]


def test_a_refund_takes_the_oldest_credit() -> None:
    found = after(paid(30, on=0), paid(50, on=1), Refunded(on=day(2), amount=Decimal(40)), invoice(1, on=3))
    assert allocations(found) == [(0, None, 30), (1, None, 10), (1, "1", 40)]
    assert found.balance == Decimal("60.00")


def test_what_closed_an_invoice_is_its_state() -> None:
    found = after(
        *(invoice(n, on=0, due=40) for n in (1, 2, 3, 4)),
        credited(100, on=1, n=1),
        credited(60, on=1, n=2),
        paid(40, on=2, n=2),
        paid(90, on=3, n=3),
        WrittenOff(on=day(4), for_=named(3)),
        as_of=40,
    )
    assert [(i.state, i.open) for i in found.invoices] == [
        ("credited", Decimal("0.00")),
        ("paid", Decimal("0.00")),
        ("written off", Decimal("0.00")),
        ("issued", Decimal("100.00")),
    ]


def test_a_credit_note_for_a_paid_invoice_is_credit_and_leaves_it_paid() -> None:
    found = after(invoice(1), paid(100, n=1), credited(25, on=2, n=1))
    assert found.invoices[0].state == "paid"
    assert found.credit == Decimal("25.00")


def test_what_a_returned_payment_closed_is_open_again() -> None:
    found = after(invoice(1), invoice(2), paid(130, n=2), Returned(on=day(20), of=2))
    assert [(i.open, i.state) for i in found.invoices] == [(Decimal("100.00"), "overdue")] * 2
    assert (found.balance, found.credit) == (Decimal("200.00"), Decimal("0.00"))
    assert allocations(found)[-2:] == [(2, "2", -100), (2, "1", -30)]
    # On the days between, it was closed.
    assert found.invoices[1].open_at_end_of(day(19)) == 0


def test_what_is_open_again_takes_other_credit_there_is() -> None:
    found = after(invoice(1), paid(100, n=1), paid(30, on=2), Returned(on=day(3), of=1))
    assert (found.invoices[0].open, found.credit, found.balance) == (Decimal("70.00"), Decimal("0.00"), Decimal(70))


def test_credit_of_a_returned_payment_is_there_no_more() -> None:
    found = after(paid(50, on=0), Returned(on=day(1), of=0), invoice(1, on=2))
    assert (found.balance, found.invoices[0].open) == (Decimal("100.00"), Decimal("100.00"))


def test_what_was_written_off_stays_so_where_another_part_is_open_again() -> None:
    entries = (invoice(1), paid(40, n=1), WrittenOff(on=day(2), for_=named(1)), Returned(on=day(3), of=1))
    assert [(i.open, i.state) for i in after(*entries).invoices] == [(Decimal("40.00"), "overdue")]
    (again,) = after(*entries, paid(40, on=4)).invoices
    assert (again.open, again.state) == (Decimal("0.00"), "written off")


def test_an_invoice_is_overdue_from_the_day_after_it_is_due() -> None:
    assert [after(invoice(1, due=14), as_of=n).invoices[0].state for n in (14, 15)] == ["issued", "overdue"]


def test_entries_after_the_day_are_left_out_and_still_have_to_fit() -> None:
    assert after(invoice(1), paid(100, on=20, n=1), as_of=19).balance == Decimal("100.00")


@pytest.mark.parametrize(
    ("entries", "where"),
    [
        ((invoice(1, on=3), paid(1, on=2)), "entries[1].on"),
        ((invoice(1), invoice(1)), "entries[1].id"),
        ((invoice(1), paid(1, n=2)), "entries[1].for"),
        ((invoice(1), credited(1, on=1, n=2)), "entries[1].for"),
        ((invoice(1), credited(60, on=1, n=1), credited(41, on=2, n=1)), "entries[2].amount"),
        ((invoice(1), paid(120), Refunded(on=day(2), amount=Decimal(21))), "entries[2].amount"),
        ((invoice(1), paid(100), WrittenOff(on=day(2), for_=named(1))), "entries[2].for"),
        ((invoice(1, amount=0),), "entries[0].amount"),
        ((invoice(1), paid(-5)), "entries[1].amount"),
        ((invoice(1), Paid(on=day(1), amount=Decimal("0.001"))), "entries[1].amount"),
        ((invoice(1, on=5, due=4),), "entries[0].due"),
        ((invoice(1), Returned(on=day(1), of=0)), "entries[1].of"),
        ((invoice(1), Returned(on=day(1), of=-1)), "entries[1].of"),
        ((Returned(on=day(1), of=1), paid(5)), "entries[0].of"),
        ((paid(5), Returned(on=day(1), of=0), Returned(on=day(1), of=0)), "entries[2].of"),
        ((paid(5, on=0), Refunded(on=day(1), amount=Decimal(1)), Returned(on=day(1), of=0)), "entries[2].of"),
    ],
)
def test_what_does_not_fit_is_refused_by_its_entry(entries: tuple[Entry, ...], where: str) -> None:
    with pytest.raises(Invalid) as refused:
        after(*entries)
    assert refused.value.where == where


@st.composite
def histories(draw: st.DrawFn) -> list[Entry]:
    """Entries of a real account: whatever a step cannot do is left out."""
    kept: list[Entry] = []
    on = 0
    for n in range(draw(st.integers(1, 14))):
        on += draw(st.integers(0, 9))
        amount, meant = draw(st.integers(1, 120)), draw(st.integers(1, 6))
        entry = draw(
            st.sampled_from(
                [
                    invoice(n + 1, on=on, due=on + meant * 5, amount=amount),
                    paid(amount, on=on),
                    paid(amount, on=on, n=meant),
                    credited(amount, on=on, n=meant),
                    Refunded(on=day(on), amount=Decimal(amount)),
                    WrittenOff(on=day(on), for_=named(meant)),
                    Returned(on=day(on), of=meant),
                ]
            )
        )
        try:
            after(*kept, entry, as_of=on)
        except Invalid:
            continue
        kept.append(entry)
    return kept


@given(histories(), st.integers(0, 160))
def test_an_account_adds_up_on_every_day(entries: list[Entry], as_of: int) -> None:
    found = after(*entries, as_of=as_of)
    so_far = [e for e in entries if e.on <= day(as_of)]
    sums = {"invoice": 0, "refund": 0, "payment": 0, "credit note": 0}
    for entry in so_far:
        if isinstance(entry, Returned):
            sums["payment"] -= entries[entry.of].amount  # type: ignore[union-attr]
        elif not isinstance(entry, WrittenOff):
            sums[entry.kind] += entry.amount
    off = {n for n, e in enumerate(so_far) if isinstance(e, WrittenOff)}
    written = sum(a.amount for a in found.allocations if a.entry in off)
    balance = sums["invoice"] + sums["refund"] - sums["payment"] - sums["credit note"] - written
    assert found.balance == balance == sum(i.open for i in found.invoices) - found.credit
    assert all(0 <= i.open <= i.amount for i in found.invoices)
    # Nobody has credit on account while something of theirs is open.
    assert not (found.credit and any(i.open for i in found.invoices))
    for n, entry in enumerate(so_far):
        went = sum(a.amount for a in found.allocations if a.entry == n)
        assert isinstance(entry, WrittenOff | Returned) or went <= entry.amount
        assert not any(isinstance(later, Returned) and later.of == n for later in so_far) or went == 0


@given(histories(), st.integers(0, 160))
def test_what_was_open_on_a_day_is_what_the_account_of_that_day_says(entries: list[Entry], as_of: int) -> None:
    now = {i.id: i.open_at_end_of(day(as_of)) for i in after(*entries, as_of=1000).invoices}
    for then in after(*entries, as_of=as_of).invoices:
        assert now[then.id] == then.open
