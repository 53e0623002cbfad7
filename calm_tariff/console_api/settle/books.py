"""The books: that what was recorded, counted, charged and booked agrees, and what does not."""

from __future__ import annotations

from datetime import date
from functools import partial

from fastapi import APIRouter
from fastapi.responses import Response

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.settle.books import audits, showing
from calm_tariff.services.settle.books.showing import BooksView, DifferenceView, UnitsRow
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["settle"], route_class=Again)


@router.get("/books")
def read_books(ctx: Asking) -> BooksView:
    """The books as they were last looked through: what each check came to, and what became of each period's calls."""
    return showing.books(ctx)


@router.post("/books/audits", status_code=202)
def begin_audit(ctx: Asking) -> BooksView:
    """Have the books looked through now, by a job."""
    audits.begin(ctx)
    return showing.books(ctx)


@router.post("/books/audits/{audit_id}/stop")
def stop_audit(ctx: Asking, audit_id: int) -> BooksView:
    """Look no further."""
    audits.stop(ctx, audit_id)
    return showing.books(ctx)


@router.get("/books/differences")
def list_differences(ctx: Asking, asked: Paged) -> Page[DifferenceView]:
    """What differed when they were last looked through, down to the hours and calls it came of. Order: found."""
    return showing.differences(ctx, asked)


@router.get("/books/differences.csv", response_class=Response)
def export_differences(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    rows = all_of(partial(showing.differences, ctx), asked)
    return as_csv("books-differences", DifferenceView, rows, left_out=("sums", "came_of"))


@router.get("/books/{start}/units")
def list_units(ctx: Asking, start: date, asked: Paged) -> Page[UnitsRow]:
    """Where a period's units are, by subscription and meter; those that do not agree first. Orders: differing,
    consumer."""
    return showing.units(ctx, start, asked)


@router.get("/books/{start}/units.csv", response_class=Response)
def export_units(ctx: Asking, start: date, asked: Paged) -> Response:
    """The same as CSV."""
    return as_csv(f"units-{start:%Y-%m}", UnitsRow, all_of(partial(showing.units, ctx, start), asked))
