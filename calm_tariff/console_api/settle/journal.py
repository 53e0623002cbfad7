"""The bookkeeper's journal by month, as figures and as files, and what its accounts are called."""

from __future__ import annotations

from datetime import date
from functools import partial

from fastapi import APIRouter
from fastapi.responses import Response, StreamingResponse
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core.billing.books import chart as rules
from calm_tariff.core.billing.books.journal import JournalEntry
from calm_tariff.edge import attachment
from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import Paged, all_of, begun
from calm_tariff.formats import double_entry
from calm_tariff.services.settle.journal import chart, entries, months
from calm_tariff.services.settle.journal.chart import LedgerView
from calm_tariff.services.settle.journal.months import JournalMonthDetail, JournalMonthView
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["settle"], route_class=Again)


class LedgerNameIn(BaseModel):
    """What an account is called: a path such as Income:Revenue, or "" for what its role is called."""

    name: str = Field(max_length=rules.LONGEST)


@router.get("/journal")
def list_months(ctx: Asking) -> list[JournalMonthView]:
    """The months in which something was booked, the latest first."""
    return months.listed(ctx)


@router.get("/journal/accounts.txt", response_class=Response)
def accounts_as_text(ctx: Asking) -> Response:
    """The accounts that the journal posts to, opened as plain-text double entry has it: read it before the months."""
    return Response(months.accounts(ctx), media_type=_TEXT, headers=attachment.named("journal-accounts.txt"))


@router.get("/journal/{month}")
def read_month(ctx: Asking, month: date) -> JournalMonthDetail:
    """A month, by its first day, and what it posts to each account."""
    return months.one(ctx, month)


@router.get("/journal/{month}/entries")
def list_entries(ctx: Asking, month: date, asked: Paged, account: str = "") -> Page[JournalEntry]:
    """Its entries, or those that post to an account of that name. Orders: oldest, newest."""
    return entries.listed(ctx, month, asked, account)


@router.get("/journal/{month}/entries.csv", response_class=Response)
def export_entries(ctx: Asking, month: date, asked: Paged, account: str = "") -> Response:
    """The same as CSV, posting by posting."""
    rows = begun(all_of(partial(entries.listed, ctx, month, account=account), asked))
    content = double_entry.as_csv(rows, months.currency(ctx))
    return StreamingResponse(content, media_type=_CSV, headers=attachment.named(f"journal-{month:%Y-%m}-entries.csv"))


@router.get("/journal/{month}/journal.csv", response_class=Response)
def month_as_csv(ctx: Asking, month: date) -> Response:
    """All of a month posting by posting, as CSV; of a closed month as it was kept."""
    return StreamingResponse(
        months.file(ctx, month, "csv"), media_type=_CSV, headers=attachment.named(f"journal-{month:%Y-%m}.csv")
    )


@router.get("/journal/{month}/journal.txt", response_class=Response)
def month_as_text(ctx: Asking, month: date) -> Response:
    """All of a month as plain-text double entry; of a closed month as it was kept."""
    return StreamingResponse(
        months.file(ctx, month, "text"), media_type=_TEXT, headers=attachment.named(f"journal-{month:%Y-%m}.txt")
    )


@router.post("/journal/{month}/close")
def close_month(ctx: Asking, month: date) -> JournalMonthDetail:
    """Close a month that is over: nothing more is booked in it, and its files stay as they are."""
    return months.close(ctx, month)


@router.get("/ledger-accounts")
def list_accounts(ctx: Asking) -> list[LedgerView]:
    """The accounts of the ledger and what each is called."""
    return chart.listed(ctx)


@router.put("/ledger-accounts/{ledger_id}")
def rename_account(ctx: Asking, ledger_id: int, typed: LedgerNameIn) -> LedgerView:
    """Call an account something else, in every month that is not closed."""
    return chart.rename(ctx, ledger_id, typed.name)


_CSV, _TEXT = "text/csv; charset=utf-8", "text/plain; charset=utf-8"
