"""Months of the journal: what each comes to, its files, and closing it.

Source: docs/arithmetic.md, section 7.
"""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from typing import Literal

from sqlalchemy import case, func, select
from sqlalchemy.orm import Session, defer

from calm_tariff.core.billing.books.journal import JournalEntry
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.events import Thing
from calm_tariff.core.periods import local_day, month_starting
from calm_tariff.formats import double_entry
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Context, provider_of, zone_of
from calm_tariff.services.settle.journal import entries
from calm_tariff.store.base.locking import locked
from calm_tariff.store.settle.accounts import AccountEntry
from calm_tariff.store.settle.journal import JournalMonth, Posting

Form = Literal["text", "csv"]
ZERO = Decimal(0)


@dataclass(frozen=True, slots=True, kw_only=True)
class JournalMonthView:
    """A month of the journal: how many entries of together which debit (the credit is the same), whether it is over,
    and who closed it when. `digest` is the SHA-256 of its text as it was closed."""

    start: date
    entries: int
    debit: Decimal
    credit: Decimal
    over: bool
    closed_at: datetime | None
    closed_by: str
    digest: str


@dataclass(frozen=True, slots=True, kw_only=True)
class LedgerSums:
    """What a month posts under the name of an account: debit and credit, both from 0 up, and debit less credit."""

    account: str
    debit: Decimal
    credit: Decimal
    balance: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class JournalMonthDetail:
    """A month, and what it posts to each account, by name."""

    month: JournalMonthView
    accounts: list[LedgerSums]
    currency: str


def listed(ctx: Context) -> list[JournalMonthView]:
    """The months in which something was booked, the latest first."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        query = select(JournalMonth).options(*_WITHOUT_FILES).order_by(JournalMonth.start.desc())
        return _views(session, ctx, session.scalars(query).all())


def one(ctx: Context, start: date) -> JournalMonthDetail:
    """One month. Raises `NotFound` where nothing was booked in it, or `Invalid` for a day that starts none."""
    ctx.actor.must_be(*ROLES)
    month_starting(start)
    with ctx.reading() as session:
        month = _found(session, start)
        (view,) = _views(session, ctx, [month])
        called = entries.names(session, start)
        query = (
            select(Posting.ledger_id, _DEBIT, _CREDIT)
            .join(AccountEntry, AccountEntry.id == Posting.entry_id)
            .where(entries.of_month(start))
            .group_by(Posting.ledger_id)
        )
        sums: dict[str, LedgerSums] = {}
        for at, debit, credit in session.execute(query):
            before = sums.get(called[at])
            if before is not None:
                debit, credit = debit + before.debit, credit + before.credit
            sums[called[at]] = LedgerSums(account=called[at], debit=debit, credit=credit, balance=debit - credit)
        return JournalMonthDetail(
            month=view,
            accounts=[sums[name] for name in sorted(sums)],
            currency=provider_of(session).currency,
        )


def file(ctx: Context, start: date, form: Form) -> Iterator[bytes]:
    """A month as plain-text double entry or as CSV: of a closed month what was kept of it. Raises as `one` does."""
    ctx.actor.must_be(*ROLES)
    month_starting(start)
    with ctx.reading() as session:
        month = _found(session, start)
        kept = month.text if form == "text" else month.rows
    return iter([zlib.decompress(kept)]) if kept is not None else _written(ctx, start, form)


def currency(ctx: Context) -> str:
    """What the journal is kept in."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return provider_of(session).currency


def accounts(ctx: Context) -> str:
    """The accounts that the journal posts to as plain-text double entry opens them: by every name they had."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        query = (
            select(func.date_format(AccountEntry.on, "%Y-%m-01"), Posting.ledger_id)
            .join(AccountEntry, AccountEntry.id == Posting.entry_id)
            .distinct()
        )
        opened: dict[str, date] = {}
        called = {month.start: entries.names(session, month.start) for month in session.scalars(select(JournalMonth))}
        for day, at in session.execute(query):
            since = date.fromisoformat(day)
            name = called[since][at]
            opened[name] = min(opened.get(name, since), since)
        return "".join(double_entry.accounts(sorted(opened.items()), provider_of(session).currency))


def close(ctx: Context, start: date) -> JournalMonthDetail:
    """Close a month: nothing more is booked in it, and what it holds is kept as it is. Raises `NotFound`, `Invalid`
    for a day that starts none, or `Conflict` where it is not over, is closed already, comes after one that is not, or
    does not add up."""
    ctx.actor.must_be("finance")
    called = f"the journal of {month_starting(start).start:%B %Y}"
    with ctx.transaction() as session:
        month = locked(session, JournalMonth, start)
        if month is None:
            raise NotFound("nothing was booked in it", called)
        if month.closed_at is not None:
            raise Conflict(f"is closed already, by {month.closed_by}", called)
        if not _is_over(ctx, session, start):
            raise Conflict(f"is closed once {start:%B} is over", called)
        before = select(func.min(JournalMonth.start)).where(
            JournalMonth.start < start, JournalMonth.closed_at.is_(None)
        )
        if (first := session.scalar(before)) is not None:
            raise Conflict(f"comes after that of {first:%B %Y}, which is not closed", called)
        refuse_unbalanced(session, start)
        names = entries.names(session, start)
        held = list(entries.every(session, start))
        currency = provider_of(session).currency
        text = "".join(double_entry.as_text(held, currency)).encode()
        month = session.get_one(JournalMonth, start)
        month.text, month.digest = zlib.compress(text), hashlib.sha256(text).hexdigest()
        month.rows = zlib.compress("".join(double_entry.as_csv(held, currency)).encode())
        month.names = {str(at): name for at, name in names.items()}
        month.entries, month.debit = len(held), _debit(held)
        month.closed_at, month.closed_by = ctx.now, ctx.actor.name
        after = {"entries": month.entries, "debit": str(month.debit), "digest": month.digest}
        subject = Thing("journal", start.year * 100 + start.month, f"{start:%B %Y}")
        auditing.note(session, ctx, "closed a month of the journal", subject, after=after)
    return one(ctx, start)


def refuse_unbalanced(session: Session, start: date) -> None:
    """Raise `Conflict`, naming the entry, where one of a month posts nothing, or what does not sum to 0."""
    off = func.coalesce(func.sum(Posting.amount), ZERO)
    query = (
        select(AccountEntry.id, func.count(Posting.id), off)
        .outerjoin(Posting, Posting.entry_id == AccountEntry.id)
        .where(entries.of_month(start))
        .group_by(AccountEntry.id)
        .having((func.count(Posting.id) == 0) | (off != 0))
        .order_by(AccountEntry.id)
    )
    for entry_id, count, amount in session.execute(query.limit(1)):
        words = f"its postings are {amount} out of balance" if count else "it posts nothing"
        raise Conflict(f"cannot be closed: {words}", f"entry {entry_id} of {start:%B %Y}")


_WITHOUT_FILES = defer(JournalMonth.text), defer(JournalMonth.rows)
_DEBIT = func.coalesce(func.sum(case((Posting.amount > 0, Posting.amount), else_=ZERO)), ZERO)
_CREDIT = func.coalesce(func.sum(case((Posting.amount < 0, -Posting.amount), else_=ZERO)), ZERO)


def _found(session: Session, start: date) -> JournalMonth:
    month = session.get(JournalMonth, start)
    if month is None:
        raise NotFound("nothing was booked in it", f"{start:%B %Y}")
    return month


def _views(session: Session, ctx: Context, months: Sequence[JournalMonth]) -> list[JournalMonthView]:
    # What a closed month holds was told when it was closed, and is proved by the books.
    open_ones = [month.start for month in months if month.closed_at is None]
    sums = _sums(session, open_ones) if open_ones else {}
    return [
        JournalMonthView(
            start=month.start,
            entries=count,
            debit=debit,
            credit=credit,
            over=_is_over(ctx, session, month.start),
            closed_at=month.closed_at,
            closed_by=month.closed_by,
            digest=month.digest,
        )
        for month in months
        for count, debit, credit in [sums.get(month.start, (month.entries, month.debit, month.debit))]
    ]


def _sums(session: Session, starts: Sequence[date]) -> dict[date, tuple[int, Decimal, Decimal]]:
    """How many entries months have, and what they come to, by the first day."""
    first = func.date_format(AccountEntry.on, "%Y-%m-01")
    query = (
        select(first, func.count(AccountEntry.id.distinct()), _DEBIT, _CREDIT)
        .outerjoin(Posting, Posting.entry_id == AccountEntry.id)
        .where(AccountEntry.on >= min(starts))
        .group_by(first)
    )
    return {date.fromisoformat(day): (count, debit, credit) for day, count, debit, credit in session.execute(query)}


def _is_over(ctx: Context, session: Session, start: date) -> bool:
    return month_starting(start).end <= local_day(ctx.now_us, zone_of(session))


def _debit(of: Iterable[JournalEntry]) -> Decimal:
    return sum((posting.amount for entry in of for posting in entry.postings if posting.amount > 0), ZERO)


def _written(ctx: Context, start: date, form: Form) -> Iterator[bytes]:
    with ctx.reading() as session:
        currency = provider_of(session).currency
        held = entries.every(session, start)
        write = double_entry.as_text if form == "text" else double_entry.as_csv
        for part in write(held, currency):
            yield part.encode()
