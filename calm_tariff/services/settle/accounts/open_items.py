"""What is open of an account: invoices not paid whole, and credit that no invoice has used."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.lifecycles import UNPAID
from calm_tariff.store.admit import merged
from calm_tariff.store.settle.accounts import AccountEntry
from calm_tariff.store.settle.money_documents import Invoice


def invoices(session: Session, owner: int) -> list[Invoice]:
    """Invoices of an account of which something is open, as they are now."""
    whose = Invoice.consumer_id.in_(merged.with_merged(session, owner))
    query = select(Invoice).where(whose, Invoice.state.in_(UNPAID), Invoice.open_amount > 0).order_by(Invoice.id)
    return list(session.scalars(query.execution_options(populate_existing=True)))


def credits(session: Session, owner: int) -> list[AccountEntry]:
    """Payments and credit notes of which something is still on account, oldest first, as they are now."""
    whose = AccountEntry.consumer_id.in_(merged.with_merged(session, owner))
    query = select(AccountEntry).where(whose, AccountEntry.left > 0).order_by(AccountEntry.id)
    return list(session.scalars(query.execution_options(populate_existing=True)))
