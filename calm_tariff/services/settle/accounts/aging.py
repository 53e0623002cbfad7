"""Everybody's accounts by what is open of them and how old that is.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Any

from sqlalchemy import and_, case, exists, func, or_, select, true
from sqlalchemy.orm import Session, aliased

from calm_tariff.core.billing.accounts import ages
from calm_tariff.core.periods import local_day
from calm_tariff.services.admit import payment_pauses
from calm_tariff.services.base.context import ROLES, Context, provider_of, zone_of
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.settle.accounts import AccountEntry, Reminder
from calm_tariff.store.settle.money_documents import Invoice

ZERO = Decimal(0)


@dataclass(frozen=True, slots=True, kw_only=True)
class Aged:
    """What is open of invoices, by how old it is (core.billing.accounts.ages), and the credit on account beside it."""

    open: Decimal
    not_due: Decimal
    to_30: Decimal
    to_60: Decimal
    to_90: Decimal
    older: Decimal
    credit: Decimal
    balance: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class AccountLine:
    """A line of the list of accounts. `oldest_due` is when the oldest of what is open was due, `reminders` how many
    went out for that; `paused` is whether calls are held up."""

    consumer_id: int
    consumer: str
    open: Decimal
    not_due: Decimal
    to_30: Decimal
    to_60: Decimal
    to_90: Decimal
    older: Decimal
    credit: Decimal
    balance: Decimal
    oldest_due: date | None
    reminders: int
    paused: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Accounts:
    """A page of the accounts, and all of them `together`."""

    rows: list[AccountLine]
    next: str | None
    total: int
    together: Aged
    currency: str


def listed(ctx: Context, wanted: PageQuery) -> Accounts:
    """A page of the accounts that have entries. Orders: late (what is oldest and most first), consumer, open, balance,
    oldest."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        today = local_day(ctx.now_us, zone_of(session))
        sums = _open_by_owner(today).subquery()
        credit = _credit_by_owner().subquery()
        columns = {name: func.coalesce(sums.c[name], ZERO) for name in _AMOUNTS}
        on_account = func.coalesce(credit.c.credit, ZERO)
        query = (
            select(Consumer, *columns.values(), on_account, sums.c.oldest)
            .outerjoin(sums, sums.c.owner == Consumer.id)
            .outerjoin(credit, credit.c.owner == Consumer.id)
            .where(_has_entries())
        )
        if wanted.words:
            query = query.where(func.lower(Consumer.name).contains(wanted.words.lower(), autoescape=True))
        late = columns["to_30"] + columns["to_60"] + columns["to_90"] + columns["older"]
        orders = {
            "late": -late,
            "consumer": Consumer.name,
            "open": columns["open"],
            "balance": columns["open"] - on_account,
            "oldest": func.coalesce(sums.c.oldest, date(9999, 1, 1)),
        }
        found = page(session, query, Consumer.id, orders, wanted)
        ids = [consumer.id for consumer, *_ in found.rows]
        reminded, paused = _reminded(session, ids), payment_pauses.all_running(session)
        rows = [
            AccountLine(
                consumer_id=consumer.id,
                consumer=consumer.name,
                **dict(zip(_AMOUNTS, amounts[:-2], strict=True)),
                credit=amounts[-2],
                balance=amounts[0] - amounts[-2],
                oldest_due=amounts[-1],
                reminders=reminded.get(consumer.id, 0),
                paused=consumer.id in paused,
            )
            for consumer, *amounts in found.rows
        ]
        together = _together(session, today)
        return Accounts(
            rows=rows,
            next=found.next,
            total=found.total,
            together=together,
            currency=provider_of(session).currency,
        )


def lines(ctx: Context, wanted: PageQuery) -> Page[AccountLine]:
    """The same page without what they come to together."""
    found = listed(ctx, wanted)
    return Page(found.rows, found.next, found.total)


_AMOUNTS = ("open", "not_due", "to_30", "to_60", "to_90", "older")


def _open_by_owner(today: date) -> Any:
    """What is open by whoever has the account, and of that, by its age."""
    of, sums = aliased(Consumer), []
    last: date | None = None
    for age, name in zip(ages.AGES, _AMOUNTS[1:], strict=True):
        first = ages.due_from(age, today)
        within = and_(
            true() if first is None else Invoice.due_on >= first, true() if last is None else Invoice.due_on < last
        )
        sums.append(func.sum(case((within, Invoice.open_amount), else_=ZERO)).label(name))
        last = first
    owner = func.coalesce(of.merged_into_id, of.id).label("owner")
    return (
        select(owner, func.sum(Invoice.open_amount).label("open"), *sums, func.min(Invoice.due_on).label("oldest"))
        .join(of, of.id == Invoice.consumer_id)
        .where(Invoice.open_amount > 0)
        .group_by(owner)
    )


def _credit_by_owner() -> Any:
    of = aliased(Consumer)
    owner = func.coalesce(of.merged_into_id, of.id).label("owner")
    return (
        select(owner, func.sum(AccountEntry.left).label("credit"))
        .join(of, of.id == AccountEntry.consumer_id)
        .where(AccountEntry.left > 0)
        .group_by(owner)
    )


def _together(session: Session, today: date) -> Aged:
    sums, credit = _open_by_owner(today).subquery(), _credit_by_owner().subquery()
    row = session.execute(select(*(func.coalesce(func.sum(sums.c[name]), ZERO) for name in _AMOUNTS))).one()
    on_account = session.scalar(select(func.sum(credit.c.credit))) or ZERO
    amounts: dict[str, Decimal] = dict(zip(_AMOUNTS, row, strict=True))
    return Aged(**amounts, credit=on_account, balance=amounts["open"] - on_account)


def overdue(session: Session, today: date) -> list[tuple[str, Decimal]]:
    """Who is late, with how much, the most first."""
    of = aliased(Consumer)
    amount = func.sum(Invoice.open_amount)
    query = (
        select(Consumer.name, amount)
        .join(of, func.coalesce(of.merged_into_id, of.id) == Consumer.id)
        .join(Invoice, Invoice.consumer_id == of.id)
        .where(Invoice.open_amount > 0, Invoice.due_on < today)
        .group_by(Consumer.id, Consumer.name)
        .order_by(amount.desc(), Consumer.id)
    )
    return [(name, late) for name, late in session.execute(query)]


def _reminded(session: Session, owners: Sequence[int]) -> dict[int, int]:
    """How many reminders went out for what is open, by account."""
    of = aliased(Consumer)
    owner = func.coalesce(of.merged_into_id, of.id)
    query = (
        select(owner, func.count(Reminder.id))
        .join(Invoice, Invoice.id == Reminder.invoice_id)
        .join(of, of.id == Invoice.consumer_id)
        .where(Invoice.open_amount > 0, owner.in_(owners))
        .group_by(owner)
    )
    return {owner: count for owner, count in session.execute(query)}  # noqa: C416


def _has_entries() -> Any:
    """Whether an account, or that of somebody who was merged into it, has entries."""
    of = aliased(Consumer)
    theirs = exists().where(AccountEntry.consumer_id == of.id, of.merged_into_id == Consumer.id)
    return Consumer.merged_into_id.is_(None) & or_(exists().where(AccountEntry.consumer_id == Consumer.id), theirs)
