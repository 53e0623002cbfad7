"""Accounts: the checks *accounts* and *money*.

Source: docs/arithmetic.md, sections 5 and 7.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from decimal import Decimal
from typing import Any

from sqlalchemy import case, func, select

from calm_tariff.core.billing.accounts.account import ADDS
from calm_tariff.core.billing.books.proof import Difference, Proof, unequal
from calm_tariff.services.settle.books.looking import Looking
from calm_tariff.store.admit import merged
from calm_tariff.store.settle.accounts import AccountEntry, Allocation
from calm_tariff.store.settle.bank import BankEntry
from calm_tariff.store.settle.card_attempts import CardRefund, PaymentAttempt
from calm_tariff.store.settle.money_documents import Invoice, MoneyDocument

ZERO = Decimal(0)
_SIGNED = case((AccountEntry.kind.in_(ADDS), AccountEntry.amount), else_=-AccountEntry.amount)


def proof(of: Looking) -> Proof:
    """Whether each document is an entry, each entry went where it went, and balances are what is open."""
    documents, entries = _documents(of), _document_entries(of)
    numbers = _numbers(of)
    differences = [
        Difference(check="accounts", what=f"{numbers.get(at, 'no document')} on its account", sums=sums, document_id=at)
        for at, sums in unequal({"documents": documents, "entries": entries})
    ]
    went = _went(of)
    differences += [
        Difference(check="accounts", what=f"entry {at}, and where it went", sums=sums)
        for at, sums in unequal({"entries": went[0], "allocated, or left": went[1]})
    ]
    opened = _open(of)
    differences += [
        Difference(check="accounts", what=f"what is open of {numbers[at]}", sums=sums, document_id=at)
        for at, sums in unequal({"invoices": opened[0], "less what closed them": opened[1]})
    ]
    balances = _balances(of)
    differences += [
        Difference(check="accounts", what="the balance", sums=sums, consumer_id=at)
        for at, sums in unequal({"entries": balances[0], "open, less credit": balances[1]})
    ]
    sums = (
        ("documents", _sum(documents)),
        ("their entries", _sum(entries)),
        ("all entries", _sum(balances[0])),
        ("open, less credit", _sum(balances[1])),
    )
    compared = len({*documents, *entries}) + len(went[0]) + len(opened[0]) + len({*balances[0], *balances[1]})
    return Proof(check="accounts", compared=compared, sums=sums, differences=tuple(differences))


def money_proof(of: Looking) -> Proof:
    """Whether what the bank and the payment processor moved was booked, each once."""
    differences, moved, booked, compared = [], ZERO, ZERO, 0
    parts = _parts(of)
    for at, state, amount, reference in of.session.execute(
        select(BankEntry.id, BankEntry.state, BankEntry.amount, BankEntry.reference)
    ):
        every, live = parts.get(at, (ZERO, ZERO))
        settled = state in ("matched", "assigned")
        compared += 1
        # Each time it was assigned, its parts came to its amount; what was taken back since is there, too.
        right = every and every % amount == 0 if settled else not live
        if settled:
            moved, booked = moved + amount, booked + (amount if right else live)
        if not right:
            said = (("bank", amount if settled else ZERO), ("booked", live))
            differences.append(Difference(check="money", what=f"the bank's entry {reference}", sums=said))
    for what, taken, entries in _cards(of):
        compared += len({*taken, *entries})
        moved, booked = moved + _sum(taken), booked + _sum(entries)
        differences += [
            Difference(check="money", what=f"{what} {at}", sums=sums)
            for at, sums in unequal({"cards": taken, "booked": entries})
        ]
    sums = (("bank and cards", moved), ("booked", booked))
    return Proof(check="money", compared=compared, sums=sums, differences=tuple(differences))


def _documents(of: Looking) -> dict[int, Decimal]:
    sign = case((MoneyDocument.kind == "credit note", -MoneyDocument.total), else_=MoneyDocument.total)
    query = select(MoneyDocument.id, sign).where(MoneyDocument.number.is_not(None), MoneyDocument.total != 0)
    return dict(of.session.execute(query).all())


def _document_entries(of: Looking) -> dict[int, Decimal]:
    found: dict[int, Decimal] = defaultdict(Decimal)
    query = select(AccountEntry.document_id, _SIGNED).where(AccountEntry.kind.in_(("invoice", "credit note")))
    for document, amount in of.session.execute(query):
        found[document or 0] += amount
    return found


def _numbers(of: Looking) -> dict[int, str]:
    query = select(MoneyDocument.id, MoneyDocument.number).where(MoneyDocument.number.is_not(None))
    return {at: number or "" for at, number in of.session.execute(query)}


def _went(of: Looking) -> tuple[dict[int, Decimal], dict[int, Decimal]]:
    """What entries other than invoices are of, and where that went or is left, by id."""
    session = of.session
    sums = dict(
        session.execute(select(Allocation.entry_id, func.sum(Allocation.amount)).group_by(Allocation.entry_id)).all()
    )
    paid_out = dict(
        session.execute(
            select(Allocation.by_id, func.sum(Allocation.amount))
            .where(Allocation.invoice_id.is_(None), Allocation.amount > 0)
            .group_by(Allocation.by_id)
        ).all()
    )
    columns = AccountEntry.id, AccountEntry.kind, AccountEntry.amount, AccountEntry.left, AccountEntry.returned_id
    rows = session.execute(select(*columns)).all()
    returned = {row.returned_id: row.amount for row in rows if row.returned_id is not None}
    of_entry = {row.id: row.amount for row in rows}
    amounts, went = {}, {}
    for row in rows:
        if row.kind == "invoice":
            continue
        amounts[row.id] = row.amount
        if row.kind == "refund":
            went[row.id] = paid_out.get(row.id, ZERO)
        elif row.kind == "returned payment":
            went[row.id] = of_entry.get(row.returned_id, ZERO)
        else:
            went[row.id] = sums.get(row.id, ZERO) + (row.left or ZERO) + returned.get(row.id, ZERO)
    return amounts, went


def _open(of: Looking) -> tuple[dict[int, Decimal], dict[int, Decimal]]:
    """What is open of issued invoices as they say, and as what closed them does, by id."""
    closed = select(Allocation.invoice_id, func.sum(Allocation.amount).label("amount"))
    by_invoice = closed.where(Allocation.invoice_id.is_not(None)).group_by(Allocation.invoice_id).subquery()
    query = (
        select(Invoice.id, Invoice.open_amount, Invoice.total - func.coalesce(by_invoice.c.amount, 0))
        .outerjoin(by_invoice, by_invoice.c.invoice_id == Invoice.id)
        .where(Invoice.number.is_not(None))
    )
    said, found = {}, {}
    for at, open_amount, left in of.session.execute(query):
        said[at], found[at] = open_amount, left
    return said, found


def _balances(of: Looking) -> tuple[dict[int, Decimal], dict[int, Decimal]]:
    """What is owed by entries, and by what is open less the credit, by whoever has the account now."""
    session, successors = of.session, merged.successors(of.session)
    by_entries: dict[int, Decimal] = defaultdict(Decimal)
    by_open: dict[int, Decimal] = defaultdict(Decimal)
    signed = select(AccountEntry.consumer_id, func.sum(_SIGNED), func.sum(func.coalesce(AccountEntry.left, 0)))
    for consumer, amount, credit in session.execute(signed.group_by(AccountEntry.consumer_id)):
        owner = successors.get(consumer, consumer)
        by_entries[owner] += amount
        by_open[owner] -= credit
    opened = select(Invoice.consumer_id, func.sum(Invoice.open_amount)).where(Invoice.number.is_not(None))
    for consumer, amount in session.execute(opened.group_by(Invoice.consumer_id)):
        by_open[successors.get(consumer, consumer)] += amount
    return by_entries, by_open


def _parts(of: Looking) -> dict[int, tuple[Decimal, Decimal]]:
    """What was booked of the bank's entries, by id: ever, and without what went back."""
    gone = set(of.session.scalars(select(AccountEntry.returned_id).where(AccountEntry.returned_id.is_not(None))))
    found: dict[int, tuple[Decimal, Decimal]] = {}
    columns = AccountEntry.id, AccountEntry.bank_entry_id, AccountEntry.kind, AccountEntry.amount
    for at, bank_entry, kind, amount in of.session.execute(
        select(*columns).where(AccountEntry.bank_entry_id.is_not(None))
    ):
        every, live = found.get(bank_entry or 0, (ZERO, ZERO))
        signed = -amount if kind == "refund" else amount
        found[bank_entry or 0] = every + signed, live + (ZERO if at in gone else signed)
    return found


def _cards(of: Looking) -> list[tuple[str, dict[int, Decimal], dict[int, Decimal]]]:
    """What was taken from cards, and given back, with what was booked of it, by the id of the attempt or refund."""
    found = []
    for what, table, kind in (
        ("what was taken from a card by attempt", PaymentAttempt, "payment"),
        ("what went back to a card by refund", CardRefund, "refund"),
    ):
        moved: Any = select(table.id, table.amount)
        moved = moved.where(PaymentAttempt.state == "taken") if table is PaymentAttempt else moved
        booked: Any = select(table.id, AccountEntry.amount).join(AccountEntry, AccountEntry.id == table.entry_id)
        booked = booked.where(AccountEntry.kind == kind, AccountEntry.paid_by == "card")
        taken, entries = (dict(of.session.execute(query).all()) for query in (moved, booked))
        found.append((what, taken, entries))
    return found


def _sum(of: Mapping[Any, Decimal]) -> Decimal:
    return sum(of.values(), ZERO)
