"""Bringing bank statements in: each entry once, by the bank's own reference, and what pays an invoice beyond doubt is
booked at once.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core import names
from calm_tariff.core.billing.bank.statements import BankLine, Statement, Unread
from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.events import Thing
from calm_tariff.core.money import rounded
from calm_tariff.core.periods import local_day
from calm_tariff.formats import bank_csv, camt
from calm_tariff.formats.bank_csv import Columns
from calm_tariff.formats.values import read, write
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Context, provider_of, zone_of
from calm_tariff.services.settle.bank import entries
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.settle.bank import BankEntry, BankStatement

Form = Literal["camt.053", "csv"]
LONGEST_FILE = 20_000_000
_SAID = ("booked_on", "value_on", "amount", "name", "iban", "text", "creditor_reference")


@dataclass(frozen=True, slots=True, kw_only=True)
class StatementView:
    """A file that was brought in: how many of its entries were new, of these how many paid an invoice beyond doubt, how
    many were known already, and which could not be used."""

    id: int
    name: str
    form: str
    brought_by: str
    brought_at: datetime
    new: int
    matched: int
    known: int
    unread: list[Unread]


def bring_in(ctx: Context, name: str, text: str, form: Form, columns: Columns | None = None) -> StatementView:
    """Bring a statement in. Which of a CSV file's `columns` is what is kept for the next. Raises `Invalid`, naming the
    field, for what is no such file, or `Conflict` where it is of another account than the house's; then nothing is
    kept."""
    ctx.actor.must_be("finance")
    if len(text) > LONGEST_FILE:
        raise Invalid(f"is longer than {LONGEST_FILE // 1_000_000} million characters; bring it in in parts", "text")
    name = names.cut(names.plain(name, "name", 1000)) if name.strip() else "pasted"
    with ctx.transaction() as session:
        provider = provider_of(session)
        if form == "csv":
            known = columns or kept_columns(session)
            if known is None:
                raise Invalid("say which column is what", "columns")
            statement = bank_csv.read(text, known, provider.currency)
            provider.bank_columns = write(bank_csv.checked(known))
        else:
            statement = camt.read(text)
        if statement.iban and provider.iban and statement.iban != provider.iban:
            raise Conflict(f"is of {statement.iban}, and the house's account is {provider.iban}", "the statement")
        kept = _kept(session, ctx, name, form, statement)
        statement_id = kept.id
    entries.match_new(ctx)
    with ctx.transaction() as session:
        return _views(session, [session.get_one(BankStatement, statement_id)])[0]


def listed(ctx: Context, wanted: PageQuery) -> Page[StatementView]:
    """A page of the statements. Orders: newest, name."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        query = select(BankStatement)
        if wanted.words:
            query = query.where(BankStatement.name.contains(wanted.words, autoescape=True))
        found = page(
            session, query, BankStatement.id, {"newest": -BankStatement.id, "name": BankStatement.name}, wanted
        )
        return Page(_views(session, found.rows), found.next, found.total)


def kept_columns(session: Session) -> Columns | None:
    """Which column of the bank's CSV files is what, where somebody has said so."""
    kept = provider_of(session).bank_columns
    return read(Columns, kept) if kept else None


def columns_of(ctx: Context) -> Columns | None:
    """The same, for whoever brings statements in."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return kept_columns(session)


def _kept(session: Session, ctx: Context, name: str, form: Form, statement: Statement) -> BankStatement:
    """Keep a statement, and those of its entries that are not known yet."""
    currency, today = provider_of(session).currency, local_day(ctx.now_us, zone_of(session))
    unread = list(statement.unread)
    usable: dict[str, BankLine] = {}
    for line in statement.lines:
        wrong = _wrong(line, currency)
        if not wrong and line.value_on > today and line.booked_on > today:
            wrong = f"is booked on {line.booked_on}, which is not yet"
        if not wrong and usable.get(line.reference, line) != line:
            wrong = "says something else than another entry of the same reference"
        if wrong:
            unread.append(Unread(where=f"reference {line.reference}", what=wrong))
        else:
            usable[line.reference] = line
    iban = statement.iban or provider_of(session).iban
    before = _known(session, iban, usable)
    for reference, digest in before.items():
        if digest != _digest(usable[reference]):
            what = "differs from what the bank said of it before; that stays"
            unread.append(Unread(where=f"reference {reference}", what=what))
    fresh = [line for reference, line in usable.items() if reference not in before]
    kept = BankStatement(
        name=name,
        form=form,
        iban=iban,
        brought_by=ctx.actor.name,
        brought_at=ctx.now,
        new=len(fresh),
        known=len(before),
        unread=write(unread),
    )
    session.add(kept)
    session.flush()
    session.add_all(_entry(kept, iban, line) for line in fresh)
    after = {"new": kept.new, "known": kept.known, "not used": len(unread)}
    auditing.note(session, ctx, "brought a bank statement in", Thing("bank statement", kept.id, name), after=after)
    return kept


def _wrong(line: BankLine, currency: str) -> str:
    if line.currency != currency:
        return f"is in {line.currency or 'no currency'}, and the house's is {currency}"
    if line.amount != rounded(line.amount, currency):
        return f"is {line.amount}, which is not in whole minor units of {currency}"
    return ""


def _known(session: Session, iban: str, references: Iterable[str]) -> dict[str, str]:
    """Of these references those of which the bank's word is known, with the digest of that."""
    wanted, found = sorted(references), {}
    for start in range(0, len(wanted), 1000):
        part = BankEntry.reference.in_(wanted[start : start + 1000])
        query = select(BankEntry.reference, BankEntry.digest).where(BankEntry.own_iban == iban, part)
        found.update({reference: digest for reference, digest in session.execute(query)})  # noqa: C416
    return found


def _entry(statement: BankStatement, iban: str, line: BankLine) -> BankEntry:
    return BankEntry(
        statement_id=statement.id,
        own_iban=iban,
        reference=line.reference,
        booked_on=line.booked_on,
        value_on=line.value_on,
        amount=line.amount,
        name=line.name,
        iban=line.iban,
        text=line.text,
        creditor_reference=line.creditor_reference,
        digest=_digest(line),
        state="new",
    )


def _digest(line: BankLine) -> str:
    said = "\x1f".join(str(getattr(line, name)) for name in _SAID if name != "amount")
    return hashlib.sha256(f"{said}\x1f{line.amount.normalize()}".encode()).hexdigest()


def _views(session: Session, of: Sequence[BankStatement]) -> list[StatementView]:
    query = (
        select(BankEntry.statement_id, func.count())
        .where(BankEntry.statement_id.in_([each.id for each in of]), BankEntry.state == "matched")
        .group_by(BankEntry.statement_id)
    )
    matched: dict[int, int] = {statement: count for statement, count in session.execute(query)}  # noqa: C416
    return [
        StatementView(
            id=each.id,
            name=each.name,
            form=each.form,
            brought_by=each.brought_by,
            brought_at=each.brought_at,
            new=each.new,
            matched=matched.get(each.id, 0),
            known=each.known,
            unread=[read(Unread, one) for one in each.unread],
        )
        for each in of
    ]
