"""Accounts: what is open, one account entry by entry, payments, refunds and what is written off."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from functools import partial

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core import reasons
from calm_tariff.core.billing.accounts.payments import Money
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import IdempotencyKey
from calm_tariff.edge.document_files import statement_file
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.settle.accounts import account_statements, aging, ledger, payments, writing_off
from calm_tariff.services.settle.accounts.aging import AccountLine, Accounts
from calm_tariff.services.settle.accounts.ledger import AccountView, EntryView
from calm_tariff.services.settle.accounts.payments import Booked
from calm_tariff.services.settle.accounts.writing_off import WriteOffView
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["settle"], route_class=Again)


class MoneyIn(BaseModel):
    """Money that came in or went out by transfer: how much, on which day by the bank's books, and the words of its
    entry there."""

    amount: Decimal
    value_on: date
    reference: str = Field("", max_length=1000)

    def money(self) -> Money:
        """The same for the service."""
        return Money(amount=self.amount, value_on=self.value_on, reference=self.reference)


class TransferIn(MoneyIn):
    """A payment, for one of the consumer's invoices or, where that is none, for whatever is due first."""

    invoice_id: int | None = None


class ReasonIn(BaseModel):
    """Why money is taken away."""

    reason: str = Field(max_length=reasons.LONGEST)


@router.get("/accounts")
def list_accounts(ctx: Asking, asked: Paged) -> Accounts:
    """Accounts that have entries, with what is open by how old it is. Orders: late (what is most late first), consumer,
    open, balance, oldest."""
    return aging.listed(ctx, asked)


@router.get("/accounts.csv", response_class=Response)
def export_accounts(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    return as_csv("accounts", AccountLine, all_of(partial(aging.lines, ctx), asked), left_out=("consumer_id",))


@router.get("/accounts/{consumer_id}")
def read_account(ctx: Asking, consumer_id: int) -> AccountView:
    """One consumer's account: what is open of it, and its credit."""
    return ledger.one(ctx, consumer_id)


@router.get("/accounts/{consumer_id}/entries")
def list_entries(ctx: Asking, consumer_id: int, asked: Paged) -> Page[EntryView]:
    """The entries of an account, with where each went. Orders: newest, oldest."""
    return ledger.entries(ctx, consumer_id, asked)


@router.get("/accounts/{consumer_id}/entries.csv", response_class=Response)
def export_entries(ctx: Asking, consumer_id: int, asked: Paged) -> Response:
    """The same as CSV."""
    rows = all_of(partial(ledger.entries, ctx, consumer_id), asked)
    return as_csv(f"account-{consumer_id}", EntryView, rows, left_out=("id", "document_id", "names_id", "parts"))


@router.get("/accounts/{consumer_id}/statement.pdf", response_class=Response)
def account_on_paper(ctx: Asking, consumer_id: int, first: date | None = None, last: date | None = None) -> Response:
    """A statement of account between two days, both among them: by default of this year until today."""
    return statement_file(account_statements.statement(ctx, consumer_id, first, last), last)


@router.post("/accounts/{consumer_id}/payments", status_code=201)
def receive(ctx: Asking, consumer_id: int, typed: TransferIn, idempotency_key: IdempotencyKey = None) -> Booked:
    """Book a transfer that came in."""
    return payments.receive(ctx, consumer_id, typed.money(), typed.invoice_id, idempotency_key)


@router.post("/accounts/{consumer_id}/refunds", status_code=201)
def refund(ctx: Asking, consumer_id: int, typed: MoneyIn, idempotency_key: IdempotencyKey = None) -> Booked:
    """Book that credit on account was paid out."""
    return payments.refund(ctx, consumer_id, typed.money(), idempotency_key)


@router.post("/account-entries/{entry_id}/return", status_code=201)
def went_back(ctx: Asking, entry_id: int, typed: ReasonIn, idempotency_key: IdempotencyKey = None) -> Booked:
    """Book that a payment went back, or was never there: what it paid is open again."""
    return payments.went_back(ctx, entry_id, typed.reason, idempotency_key)


@router.post("/invoices/{invoice_id}/write-off", status_code=201)
def write_off(ctx: Asking, invoice_id: int, typed: ReasonIn, idempotency_key: IdempotencyKey = None) -> WriteOffView:
    """Give up what is open of an invoice; above an amount that the house sets, a second person has to agree."""
    return writing_off.ask(ctx, invoice_id, typed.reason, idempotency_key)


@router.post("/write-offs/{write_off_id}/agree", status_code=204)
def agree(ctx: Asking, write_off_id: int) -> None:
    """Agree to what somebody else wants to write off."""
    writing_off.agree(ctx, write_off_id)


@router.delete("/write-offs/{write_off_id}", status_code=204)
def take_back(ctx: Asking, write_off_id: int) -> None:
    """Give nothing up after all."""
    writing_off.take_back(ctx, write_off_id)
