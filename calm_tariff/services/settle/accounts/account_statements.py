"""Statements of account: what a consumer owed and paid between two days, on paper.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from datetime import date
from decimal import Decimal

from sqlalchemy import func, select
from sqlalchemy.orm import Session, aliased

from calm_tariff.core.billing.accounts.account import ADDS
from calm_tariff.core.errors import Invalid, NotFound
from calm_tariff.core.money import rounded
from calm_tariff.core.periods import local_day
from calm_tariff.core.sentences.account import entry_in_words
from calm_tariff.formats.money_documents import paper
from calm_tariff.formats.money_documents.paper import Entry, StatementOfAccount
from calm_tariff.services.base.context import ROLES, Context, provider_of, zone_of
from calm_tariff.services.settle.accounts import open_items
from calm_tariff.services.settle.documents.looks import look_of
from calm_tariff.store.admit import merged
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.settle.accounts import AccountEntry
from calm_tariff.store.settle.money_documents import MoneyDocument

ZERO = Decimal(0)


def statement(ctx: Context, consumer_id: int, first: date | None, last: date | None) -> bytes:
    """A consumer's statement between two days, both among them: by default from the first of January until today, as a
    PDF. Raises `NotFound` or `Invalid`, naming the field."""
    ctx.actor.must_be(*ROLES)
    return _written(ctx, consumer_id, first, last)


def own(ctx: Context, first: date | None, last: date | None) -> bytes:
    """One's own statement, likewise."""
    return _written(ctx, ctx.actor.consumer_to("see money"), first, last)


def _written(ctx: Context, consumer_id: int, first: date | None, last: date | None) -> bytes:
    with ctx.transaction() as session:
        consumer = session.get(Consumer, consumer_id)
        if consumer is None:
            raise NotFound("there is no such consumer", str(consumer_id))
        today = local_day(ctx.now_us, zone_of(session))
        last = today if last is None else last
        first = date(last.year, 1, 1) if first is None else first
        if last > today:
            raise Invalid("must not lie after today", "last")
        if first > last:
            raise Invalid("must not lie after the last day", "first")
        found, look = _told(session, consumer, first, last), look_of(session)
    return paper.statement(found, look)


def _told(session: Session, consumer: Consumer, first: date, last: date) -> StatementOfAccount:
    provider = provider_of(session)
    currency = provider.currency
    own, names = aliased(MoneyDocument), aliased(MoneyDocument)
    query = (
        select(AccountEntry, func.coalesce(own.number, names.number, ""))
        .outerjoin(own, own.id == AccountEntry.document_id)
        .outerjoin(names, names.id == AccountEntry.invoice_id)
        .where(AccountEntry.consumer_id.in_(merged.with_merged(session, consumer.id)), AccountEntry.on <= last)
        .order_by(AccountEntry.id)
    )
    balance, before, entries = ZERO, ZERO, list[Entry]()
    for entry, number in session.execute(query):
        amount = entry.amount if entry.kind in ADDS else -entry.amount
        balance += amount
        if entry.on < first:
            before = balance
            continue
        words = entry_in_words(entry.kind, number, entry.paid_by)
        entries.append(
            Entry(on=entry.on, what=words, amount=rounded(amount, currency), balance=rounded(balance, currency))
        )
    still = sorted(open_items.invoices(session, consumer.id), key=lambda i: (i.due_on or last, i.id))
    return StatementOfAccount(
        seller=provider.name,
        address=provider.address,
        buyer=consumer.name,
        buyer_address=consumer.address,
        first=first,
        last=last,
        currency=currency,
        before=rounded(before, currency),
        entries=entries,
        after=rounded(balance, currency),
        open=[(i.number or "", i.due_on, rounded(i.open_amount, currency)) for i in still if i.due_on is not None],
        iban=provider.iban,
        bic=provider.bic,
    )
