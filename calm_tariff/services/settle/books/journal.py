"""The journal against what it posts: the check *journal*.

Source: docs/arithmetic.md, section 7.
"""

from __future__ import annotations

import hashlib
import zlib
from collections import defaultdict
from decimal import Decimal

from sqlalchemy import case, func, select

from calm_tariff.core.billing.accounts.account import ADDS
from calm_tariff.core.billing.books.proof import Difference, Proof, unequal
from calm_tariff.services.settle.books.looking import Looking
from calm_tariff.services.settle.journal import entries
from calm_tariff.store.settle.accounts import AccountEntry
from calm_tariff.store.settle.journal import JournalMonth, Ledger, Posting
from calm_tariff.store.settle.money_documents import DocumentTax

ZERO = Decimal(0)


def proof(of: Looking) -> Proof:
    """Whether each entry posts what it is, in balance, and closed months hold what they held."""
    signed = case((AccountEntry.kind.in_(ADDS), AccountEntry.amount), else_=-AccountEntry.amount)
    booked: dict[int, Decimal] = dict(of.session.execute(select(AccountEntry.id, signed)).all())
    receivable, together, tax = _posted(of)
    differences = [
        Difference(check="journal", what=f"what entry {at} posts as receivable", sums=sums)
        for at, sums in unequal({"entries": booked, "postings": receivable})
    ]
    differences += [
        Difference(check="journal", what=f"the postings of entry {at}", sums=(("together", amount), ("balance", ZERO)))
        for at, amount in together.items()
        if amount
    ]
    differences += [
        Difference(check="journal", what=f"tax that entry {at} posts", sums=sums)
        for at, sums in unequal({"documents": _tax(of), "postings": tax})
    ]
    differences += _closed(of)
    sums = (("entries", sum(booked.values(), ZERO)), ("receivable postings", sum(receivable.values(), ZERO)))
    return Proof(check="journal", compared=len(booked), sums=sums, differences=tuple(differences))


def _posted(of: Looking) -> tuple[dict[int, Decimal], dict[int, Decimal], dict[int, Decimal]]:
    """What is posted by entry: as receivable, in all, and as tax."""
    receivable: dict[int, Decimal] = defaultdict(Decimal)
    together: dict[int, Decimal] = defaultdict(Decimal)
    tax: dict[int, Decimal] = defaultdict(Decimal)
    query = select(Posting.entry_id, Ledger.role, func.sum(Posting.amount)).join(Ledger, Ledger.id == Posting.ledger_id)
    for entry, role, amount in of.session.execute(query.group_by(Posting.entry_id, Ledger.role)):
        together[entry] += amount
        if role == "receivable":
            receivable[entry] += amount
        elif role == "tax":
            tax[entry] -= amount
    return receivable, together, tax


def _tax(of: Looking) -> dict[int, Decimal]:
    """The tax on documents, by entry; of credit notes below 0."""
    sign = case((AccountEntry.kind == "credit note", -1), else_=1)
    query = select(AccountEntry.id, func.sum(sign * DocumentTax.tax)).join(
        DocumentTax, DocumentTax.document_id == AccountEntry.document_id
    )
    return dict(of.session.execute(query.group_by(AccountEntry.id)).all())


def _closed(of: Looking) -> list[Difference]:
    found = []
    for month in of.session.scalars(select(JournalMonth).where(JournalMonth.closed_at.is_not(None))):
        called = f"the closed journal of {month.start:%B %Y}"
        text = zlib.decompress(month.text or zlib.compress(b""))
        if hashlib.sha256(text).hexdigest() != month.digest:
            said = (("as it was closed", Decimal(1)), ("as it is", ZERO))
            found.append(Difference(check="journal", what=f"the text of {called}", sums=said, period=month.start))
        debit = func.coalesce(func.sum(case((Posting.amount > 0, Posting.amount), else_=ZERO)), ZERO)
        count, now = of.session.execute(
            select(func.count(AccountEntry.id.distinct()), debit)
            .outerjoin(Posting, Posting.entry_id == AccountEntry.id)
            .where(entries.of_month(month.start))
        ).one()
        for what, said_then, said_now in (("debit", month.debit, now), ("entries", month.entries, count)):
            if said_then != said_now:
                sums = (("as it was closed", Decimal(said_then)), ("as it is", Decimal(said_now)))
                found.append(Difference(check="journal", what=f"{what} of {called}", sums=sums, period=month.start))
    return found
