"""The entries of a month's journal, as they are read."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import date
from decimal import Decimal
from typing import Any

from sqlalchemy import Select, exists, func, or_, select
from sqlalchemy.orm import Session, aliased

from calm_tariff.core.billing.books.journal import JournalEntry, NamedPosting
from calm_tariff.core.periods import month_starting
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.settle.journal import chart
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.settle.accounts import AccountEntry
from calm_tariff.store.settle.journal import JournalMonth, Posting
from calm_tariff.store.settle.money_documents import MoneyDocument

# So many entries are read at a time.
AT_ONCE = 1000
ZERO = Decimal(0)


def listed(ctx: Context, start: date, wanted: PageQuery, account: str = "") -> Page[JournalEntry]:
    """A page of a month's entries, in the order in which they were booked, or of those that post to an account of that
    name. Words are looked for in consumers and references. Raises `Invalid` for a day that starts no month."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        query, called = _of_month(start), names(session, start)
        if account:
            at = [ledger for ledger, name in called.items() if name == account]
            query = query.where(exists().where(Posting.entry_id == AccountEntry.id, Posting.ledger_id.in_(at)))
        if wanted.words:
            like = wanted.words.lower()
            query = query.where(
                or_(
                    func.lower(Consumer.name).contains(like, autoescape=True),
                    func.lower(_REFERENCE.number).contains(like, autoescape=True),
                )
            )
        orders = {"oldest": AccountEntry.id, "newest": -AccountEntry.id}
        found = page(session, query, AccountEntry.id, orders, wanted)
        return Page(_entries(session, found.rows, called), found.next, found.total)


def every(session: Session, start: date) -> Iterator[JournalEntry]:
    """All entries of a month, in the order in which they were booked."""
    called, last = names(session, start), 0
    while True:
        query = _of_month(start).where(AccountEntry.id > last).order_by(AccountEntry.id).limit(AT_ONCE)
        rows = session.execute(query).all()
        yield from _entries(session, rows, called)
        if len(rows) < AT_ONCE:
            return
        last = rows[-1][0].id
        session.expire_all()


def names(session: Session, start: date) -> Mapping[int, str]:
    """What each account is called in a month: as it was when that was closed, or as it is now."""
    month = session.get(JournalMonth, start)
    if month is None or month.closed_at is None:
        return chart.by_id(session)
    return {int(identifier): name for identifier, name in month.names.items()}


def of_month(start: date) -> Any:
    """Which entries are a month's."""
    period = month_starting(start)
    return (AccountEntry.on >= period.start) & (AccountEntry.on < period.end)


_REFERENCE = aliased(MoneyDocument)


def _of_month(start: date) -> Select[AccountEntry, str, str | None]:
    return (
        select(AccountEntry, Consumer.name, _REFERENCE.number)
        .join(Consumer, Consumer.id == AccountEntry.consumer_id)
        .outerjoin(_REFERENCE, _REFERENCE.id == func.coalesce(AccountEntry.document_id, AccountEntry.invoice_id))
        .where(of_month(start))
    )


def _entries(session: Session, rows: Sequence[Any], called: Mapping[int, str]) -> list[JournalEntry]:
    posted: dict[int, dict[str, Decimal]] = {}
    query = select(Posting).where(Posting.entry_id.in_([entry.id for entry, *_ in rows])).order_by(Posting.id)
    for each in session.scalars(query):
        sums, name = posted.setdefault(each.entry_id, {}), called[each.ledger_id]
        sums[name] = sums.get(name, ZERO) + each.amount
    return [
        JournalEntry(
            id=entry.id,
            on=entry.on,
            kind=entry.kind,
            consumer_id=entry.consumer_id,
            consumer=consumer,
            reference=number or "",
            document_id=entry.document_id or entry.invoice_id,
            value_on=entry.value_on,
            postings=tuple(
                NamedPosting(account=name, amount=amount) for name, amount in posted.get(entry.id, {}).items() if amount
            ),
        )
        for entry, consumer, number in rows
    ]
