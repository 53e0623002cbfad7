"""Posting: what an entry of a consumer's account does to the ledger, written with the entry.

Source: docs/arithmetic.md, section 7.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from decimal import Decimal
from typing import cast

from sqlalchemy import func, insert, select
from sqlalchemy.dialects.mysql import insert as upsert
from sqlalchemy.orm import Session

from calm_tariff.core.billing.accounts.account import ADDS
from calm_tariff.core.billing.accounts.payments import Way
from calm_tariff.core.billing.books import postings as rules
from calm_tariff.core.billing.books.chart import LedgerAccount, Role
from calm_tariff.core.billing.books.postings import Posting
from calm_tariff.core.billing.documents.tax import TaxGroup, TaxRule, Treatment
from calm_tariff.core.billing.documents.totals import Totals
from calm_tariff.core.errors import Conflict
from calm_tariff.core.periods import month_of
from calm_tariff.store.base.locking import shared
from calm_tariff.store.compose.products import Plan, PlanRevision
from calm_tariff.store.settle import journal as stored
from calm_tariff.store.settle.accounts import AccountEntry
from calm_tariff.store.settle.journal import JournalMonth, Ledger
from calm_tariff.store.settle.money_documents import CreditNote, MoneyDocument, MoneyLine


def post(session: Session, entry: AccountEntry) -> None:
    """Post an entry that was just made. Raises `Conflict` where its month is closed."""
    _refuse_closed(session, entry.on)
    made = _postings(session, entry)
    ids = ledgers(session, [each.account for each in made])
    rows = [{"entry_id": entry.id, "ledger_id": ids[each.account], "amount": each.amount} for each in made]
    session.execute(insert(stored.Posting), rows)


def ledgers(session: Session, accounts: Sequence[LedgerAccount]) -> dict[LedgerAccount, int]:
    """The ids of accounts of the ledger; those that are not there yet are made."""
    known = _known(session, accounts)
    new = [each for each in accounts if each not in known]
    if new:
        rows = [
            {
                "stands_for": stands_for(each),
                "role": each.role,
                "product_id": each.product,
                "treatment": each.rule.treatment if each.rule else "",
                "percent": each.rule.percent if each.rule else None,
                "name": "",
            }
            for each in sorted(new, key=stands_for)
        ]
        session.execute(upsert(Ledger).prefix_with("IGNORE"), rows)
        known = _known(session, accounts)
    return known


def stands_for(account: LedgerAccount) -> str:
    """What an account is found by: "revenue of product 3", "tax standard 23.0000"."""
    if account.product is not None:
        return f"{account.role} of product {account.product}"
    if account.rule is not None:
        return f"{account.role} {account.rule.treatment} {account.rule.percent:.4f}"
    return account.role


def account_of(row: Ledger) -> LedgerAccount:
    """The account that a row is."""
    rule = None
    if row.percent is not None:
        rule = TaxRule(treatment=cast("Treatment", row.treatment), percent=row.percent)
    return LedgerAccount(role=cast("Role", row.role), product=row.product_id, rule=rule)


def _known(session: Session, accounts: Sequence[LedgerAccount]) -> dict[LedgerAccount, int]:
    by_words = {stands_for(each): each for each in accounts}
    query = select(Ledger.stands_for, Ledger.id).where(Ledger.stands_for.in_(by_words))
    return {by_words[words]: identifier for words, identifier in session.execute(query)}


def _refuse_closed(session: Session, on: date) -> None:
    """Hold the month of a day open until this is booked."""
    start = month_of(on).start
    month = shared(session, JournalMonth, start)
    if month is None:
        session.execute(
            upsert(JournalMonth).prefix_with("IGNORE"),
            [{"start": start, "closed_by": "", "entries": 0, "debit": 0, "names": {}, "digest": ""}],
        )
        month = shared(session, JournalMonth, start)
    if month is not None and month.closed_at is not None:
        raise Conflict("is closed: nothing more can be booked in it", f"the journal of {start:%B %Y}")


def _postings(session: Session, entry: AccountEntry) -> tuple[Posting, ...]:
    if entry.document is not None:
        of = rules.of_credit_note if isinstance(entry.document, CreditNote) else rules.of_invoice
        return of(_totals(entry.document), _by_product(session, entry.document.id))
    if entry.kind == "write-off":
        return rules.of_write_off(entry.amount)
    of_money = rules.of_refund if entry.kind in ADDS else rules.of_payment
    return of_money(entry.amount, cast("Way", entry.paid_by))


def _totals(document: MoneyDocument) -> Totals:
    groups = tuple(
        TaxGroup(
            rule=TaxRule(treatment=cast("Treatment", group.treatment), percent=group.percent),
            base=group.base,
            tax=group.tax,
        )
        for group in document.tax_groups
    )
    return Totals(subtotal=document.subtotal, groups=groups, tax=document.tax, total=document.total)


def _by_product(session: Session, document_id: int) -> dict[int | None, Decimal]:
    """What the lines of a document come to, by the product they charge for."""
    query = (
        select(Plan.product_id, func.sum(MoneyLine.amount))
        .select_from(MoneyLine)
        .outerjoin(PlanRevision, PlanRevision.id == MoneyLine.revision_id)
        .outerjoin(Plan, Plan.id == PlanRevision.plan_id)
        .where(MoneyLine.document_id == document_id)
        .group_by(Plan.product_id)
        .order_by(Plan.product_id)
    )
    return {product: amount for product, amount in session.execute(query)}  # noqa: C416
