"""What the bank says: statements brought in, and entries that wait for a person."""

from __future__ import annotations

from dataclasses import asdict
from decimal import Decimal
from functools import partial
from typing import Literal

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core import reasons
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import IdempotencyKey
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.formats.bank_csv import LONGEST_NAME, Columns, Days, Points
from calm_tariff.services.settle.bank import entries, statements, views
from calm_tariff.services.settle.bank.entries import Part
from calm_tariff.services.settle.bank.statements import LONGEST_FILE, StatementView
from calm_tariff.services.settle.bank.views import BankEntryView
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["settle"], route_class=Again)
_LEFT_OUT = ("id", "guesses", "booked")


class ColumnsIn(BaseModel):
    """The names of a bank's columns, as its head has them; "" for what it has none for. `days` shows how it writes the
    last day of 2026, `point` what stands before the minor units."""

    booked_on: str = Field(max_length=LONGEST_NAME)
    amount: str = Field(max_length=LONGEST_NAME)
    value_on: str = Field("", max_length=LONGEST_NAME)
    name: str = Field("", max_length=LONGEST_NAME)
    iban: str = Field("", max_length=LONGEST_NAME)
    text: str = Field("", max_length=LONGEST_NAME)
    reference: str = Field("", max_length=LONGEST_NAME)
    days: Days = "2026-12-31"
    point: Points = "."


class StatementIn(BaseModel):
    """A statement: the text of a CAMT.053 or a CSV file. Which column of a CSV file is what is kept for the next."""

    name: str = Field("", max_length=1000)
    text: str = Field(max_length=LONGEST_FILE)
    form: Literal["camt.053", "csv"] = "camt.053"
    columns: ColumnsIn | None = None


class PartIn(BaseModel):
    """So much of an entry is a consumer's: for one of its invoices, or for what is due first."""

    consumer_id: int
    amount: Decimal
    invoice_id: int | None = None


class AssignedIn(BaseModel):
    """Whose an entry is, in parts that come to its amount."""

    parts: list[PartIn] = Field(max_length=1000)


class WhyIn(BaseModel):
    """Why an entry is put aside, or waits again."""

    why: str = Field(max_length=reasons.LONGEST)


@router.get("/bank/statements")
def list_statements(ctx: Asking, asked: Paged) -> Page[StatementView]:
    """Statements that were brought in. Orders: newest, name."""
    return statements.listed(ctx, asked)


@router.get("/bank/statements.csv", response_class=Response)
def export_statements(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    rows = all_of(partial(statements.listed, ctx), asked)
    return as_csv("bank-statements", StatementView, rows, left_out=("id", "unread"))


@router.post("/bank/statements", status_code=201)
def bring_in(ctx: Asking, typed: StatementIn) -> StatementView:
    """Bring a statement in: each entry once; what pays an invoice beyond doubt is booked."""
    columns = Columns(**typed.columns.model_dump()) if typed.columns is not None else None
    return statements.bring_in(ctx, typed.name, typed.text, typed.form, columns)


@router.get("/bank/columns")
def read_columns(ctx: Asking) -> dict[str, str]:
    """Which column of the bank's CSV files is what; nothing where nobody has said so."""
    kept = statements.columns_of(ctx)
    return {} if kept is None else asdict(kept)


@router.get("/bank/waiting")
def list_waiting(ctx: Asking, asked: Paged) -> Page[BankEntryView]:
    """Entries that wait for a person, with what each may be for. Orders: newest, oldest, amount."""
    return views.listed(ctx, asked, waiting=True)


@router.get("/bank/waiting.csv", response_class=Response)
def export_waiting(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    rows = all_of(partial(views.listed, ctx, waiting=True), asked)
    return as_csv("bank-waiting", BankEntryView, rows, left_out=_LEFT_OUT)


@router.get("/bank/done")
def list_done(ctx: Asking, asked: Paged) -> Page[BankEntryView]:
    """Entries that were matched or decided on, with what each was booked as. Orders: newest, oldest, amount."""
    return views.listed(ctx, asked, waiting=False)


@router.get("/bank/done.csv", response_class=Response)
def export_done(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    rows = all_of(partial(views.listed, ctx, waiting=False), asked)
    return as_csv("bank-done", BankEntryView, rows, left_out=_LEFT_OUT)


@router.post("/bank/entries/{bank_entry_id}/assign", status_code=204)
def assign(ctx: Asking, bank_entry_id: int, typed: AssignedIn, idempotency_key: IdempotencyKey = None) -> None:
    """Say whose an entry is, in one part or several."""
    parts = [Part(**part.model_dump()) for part in typed.parts]
    entries.assign(ctx, bank_entry_id, parts, idempotency_key)


@router.post("/bank/entries/{bank_entry_id}/send-back", status_code=204)
def send_back(ctx: Asking, bank_entry_id: int, typed: WhyIn) -> None:
    """Say that money that came in is sent back to where it came from."""
    entries.send_back(ctx, bank_entry_id, typed.why)


@router.post("/bank/entries/{bank_entry_id}/leave-alone", status_code=204)
def leave_alone(ctx: Asking, bank_entry_id: int, typed: WhyIn) -> None:
    """Say that an entry is no consumer's business."""
    entries.leave_alone(ctx, bank_entry_id, typed.why)


@router.post("/bank/entries/{bank_entry_id}/take-back", status_code=204)
def take_back(ctx: Asking, bank_entry_id: int, typed: WhyIn) -> None:
    """Have an entry wait again: what it was booked as went back."""
    entries.take_back(ctx, bank_entry_id, typed.why)
