"""What the bookkeeper calls the accounts of the ledger.

Source: docs/arithmetic.md, section 7.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import cast

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.books import chart as rules
from calm_tariff.core.billing.books.chart import DEFAULTS, LedgerAccount, Role
from calm_tariff.core.billing.documents.tax import TaxRule
from calm_tariff.core.errors import NotFound
from calm_tariff.core.money import plain
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Context, provider_of
from calm_tariff.services.settle.journal import posting
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.products import Product
from calm_tariff.store.settle.journal import Ledger


@dataclass(frozen=True, slots=True, kw_only=True)
class LedgerView:
    """An account of the ledger: what it stands for, by role and what it is told apart by, and its name. `own` is
    whether it has a name of its own; without one it is called `otherwise`."""

    id: int
    role: str
    product_id: int | None
    product: str
    treatment: str
    percent: Decimal | None
    name: str
    own: bool
    otherwise: str


def listed(ctx: Context) -> list[LedgerView]:
    """Every account: the six roles, and below them each product's revenue and each tax rule's tax, as far as there is
    such a product or rule."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        _make_all(session)
        rows = session.scalars(select(Ledger)).all()
        products = {each.id: each.name for each in session.scalars(select(Product))}
        names = by_account(session)
        views = [_view(row, names, products) for row in rows]
    order = list(DEFAULTS)
    return sorted(views, key=lambda v: (order.index(cast("Role", v.role)), v.treatment, v.percent or 0, v.product))


def rename(ctx: Context, ledger_id: int, name: str) -> LedgerView:
    """Call an account something else from now on, in every month that is not closed; "" is as its role is called, or
    what that is called by itself. Raises `NotFound`, or `Invalid`, naming the field."""
    ctx.actor.must_be("finance")
    if name := name.strip():
        rules.check_name(name)
    with ctx.transaction() as session:
        row = locked(session, Ledger, ledger_id)
        if row is None:
            raise NotFound("there is no such account", str(ledger_id))
        products = {each.id: each.name for each in session.scalars(select(Product))}
        if name != row.name:
            before, row.name = row.name, name
            what = _words(row, {each.id: each.name for each in session.scalars(select(Product))})
            auditing.note(
                session,
                ctx,
                "named an account of the ledger",
                ("ledger", row.id, what),
                before={"name": before},
                after={"name": name},
            )
            session.flush()
        products = {each.id: each.name for each in session.scalars(select(Product))}
        return _view(row, by_account(session), products)


def by_account(session: Session) -> dict[LedgerAccount, str]:
    """The names that accounts have of their own."""
    return {posting.account_of(row): row.name for row in session.scalars(select(Ledger)) if row.name}


def by_id(session: Session) -> dict[int, str]:
    """What every account is called now."""
    names = by_account(session)
    return {row.id: rules.name_of(posting.account_of(row), names) for row in session.scalars(select(Ledger))}


def _make_all(session: Session) -> None:
    """Have an account for each role, every product and the tax that is charged, so that it can be named before it is
    used."""
    products = session.scalars(select(Product.id)).all()
    provider = provider_of(session)
    percents = {provider.tax_percent, *(Decimal(each["percent"]) for each in provider.tax_changes)} - {Decimal(0)}
    posting.ledgers(
        session,
        [
            *(LedgerAccount(role=role) for role in DEFAULTS),
            *(LedgerAccount(role="revenue", product=each) for each in products),
            *(LedgerAccount(role="tax", rule=TaxRule(treatment="standard", percent=each)) for each in percents),
        ],
    )


def _view(row: Ledger, names: Mapping[LedgerAccount, str], products: Mapping[int, str]) -> LedgerView:
    account = posting.account_of(row)
    return LedgerView(
        id=row.id,
        role=row.role,
        product_id=row.product_id,
        product=products.get(row.product_id or 0, ""),
        treatment=row.treatment,
        percent=row.percent,
        name=rules.name_of(account, names),
        own=bool(row.name),
        otherwise=rules.name_of(account, {key: name for key, name in names.items() if key != account}),
    )


def _words(row: Ledger, products: Mapping[int, str]) -> str:
    if row.product_id is not None:
        return f"revenue of {products.get(row.product_id, '')}"
    return f"{row.role} of {plain(row.percent)}%" if row.percent is not None else row.role
