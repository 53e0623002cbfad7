"""How the demo's bookkeeper calls the accounts of the journal, and the first month, which is closed."""

from __future__ import annotations

from contextlib import suppress

from calm_tariff.core.errors import Conflict
from calm_tariff.services.base.context import Context
from calm_tariff.services.settle.books import audits
from calm_tariff.services.settle.journal import chart, months

# What each is called, by the product or the percent that it is told apart by, or by its role.
NAMES = {
    "bank": "Assets:Bank:Larkmouth-Savings",
    "card clearing": "Assets:Clearing:Cards",
    "Harbour Data": "Income:Data:Harbour",
    "Sea Watch": "Income:Data:Sea-Watch",
    "Chart Tiles": "Income:Charts",
    "23": "Liabilities:VAT:Standard",
}


def name_accounts(ctx: Context) -> None:
    """Give the accounts their names."""
    for account in chart.listed(ctx):
        percent = "" if account.percent is None else f"{account.percent:.0f}"
        if name := NAMES.get(account.product or percent or account.role):
            chart.rename(ctx, account.id, name)


def close_first(ctx: Context) -> None:
    """Close the first month in which something was booked; those after it are left to be closed by hand."""
    first = months.listed(ctx)[-1]
    if first.over:
        months.close(ctx, first.start)


def have_looked_through(ctx: Context) -> None:
    """Have the books looked through once everything is there, unless they are just now."""
    with suppress(Conflict):
        audits.begin(ctx)
