"""One's own account: what is open, what is on account, and entry by entry."""

from __future__ import annotations

from datetime import date
from functools import partial

from fastapi import APIRouter
from fastapi.responses import Response

from calm_tariff.edge.again import Again
from calm_tariff.edge.document_files import statement_file
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.settle.accounts import account_statements, ledger
from calm_tariff.services.settle.accounts.ledger import AccountView, EntryView
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["settle"], route_class=Again)


@router.get("/account")
def own_account(ctx: Asking) -> AccountView:
    """One's own account."""
    return ledger.own(ctx)


@router.get("/account/statement.pdf", response_class=Response)
def own_account_on_paper(ctx: Asking, first: date | None = None, last: date | None = None) -> Response:
    """A statement of one's own account between two days, both among them: by default of this year until today."""
    return statement_file(account_statements.own(ctx, first, last), last)


@router.get("/account/entries")
def own_entries(ctx: Asking, asked: Paged) -> Page[EntryView]:
    """The entries of one's own account, with where each went. Orders: newest, oldest."""
    return ledger.own_entries(ctx, asked)


@router.get("/account/entries.csv", response_class=Response)
def own_entries_file(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    rows = all_of(partial(ledger.own_entries, ctx), asked)
    return as_csv("account", EntryView, rows, left_out=("id", "document_id", "names_id", "parts", "made_by"))
