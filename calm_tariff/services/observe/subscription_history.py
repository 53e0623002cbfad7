"""A subscription from its first question to its last invoice: what both sides said and did, in one order."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from typing import Any, Literal

from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound
from calm_tariff.core.money import rounded
from calm_tariff.core.sentences import money
from calm_tariff.services.admit.desk import conversation
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.admit.applications import ApiKey
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.record import AuditEntry, Mail
from calm_tariff.store.settle.accounts import AccountEntry, Allocation
from calm_tariff.store.settle.money_documents import Invoice, MoneyLine

Kind = Literal["request", "letter", "subscription", "invoice", "payment", "key"]
# What the record says of a subscription in a word, for what its entries call it.
_SAID_IN = ("said", "limit", "plan", "state", "new", "label")


@dataclass(frozen=True, slots=True, kw_only=True)
class HistoryEvent:
    """Something that was said or done: when, about what kind of thing, by whom, what, and in which words. `page` is
    where more of it is; `inside` never left the provider."""

    at: datetime
    kind: Kind
    by: str
    what: str
    text: str
    page: str
    inside: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class SubscriptionHistory:
    """A subscription, and everything of it, the earliest first."""

    id: int
    consumer_id: int
    consumer: str
    application: str
    product: str
    plan: str
    state: str
    events: list[HistoryEvent]


def one(ctx: Context, subscription_id: int) -> SubscriptionHistory:
    """The history of a subscription. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        of = session.get(Subscription, subscription_id)
        if of is None:
            raise NotFound("there is no such subscription", str(subscription_id))
        requests = _requests(session, of)
        events = [
            *_said(session, requests),
            *_recorded(session, of),
            *_written(session, of, requests),
            *_charged(session, of),
            *_paid(session, of),
        ]
        return SubscriptionHistory(
            id=of.id,
            consumer_id=of.application.consumer_id,
            consumer=of.application.consumer.name,
            application=of.application.name,
            product=of.plan.product.name,
            plan=of.plan.name,
            state=of.state,
            events=sorted(events, key=lambda event: event.at),
        )


def _requests(session: Session, of: Subscription) -> list[int]:
    """The request that it began with, and those that moved it."""
    query = select(AccessRequest.id).where(
        or_(AccessRequest.id == (of.request_id or 0), AccessRequest.moves_id == of.id)
    )
    return list(session.scalars(query.order_by(AccessRequest.id)))


def _said(session: Session, requests: list[int]) -> Iterator[HistoryEvent]:
    for request in requests:
        for message in conversation.of(session, request, inside=True):
            yield HistoryEvent(
                at=message.at,
                kind="request",
                by=message.by,
                what=message.kind,
                text=message.text,
                page=f"/admit/desk/{request}",
                inside=message.inside,
            )


def _recorded(session: Session, of: Subscription) -> Iterator[HistoryEvent]:
    """What the record has of the subscription and of its application's keys."""
    keys = select(ApiKey.id).where(ApiKey.application_id == of.application_id)
    query = select(AuditEntry).where(
        or_(
            (AuditEntry.subject_kind == "subscription") & (AuditEntry.subject_id == of.id),
            (AuditEntry.subject_kind == "key") & AuditEntry.subject_id.in_(keys),
        )
    )
    for entry in session.scalars(query.order_by(AuditEntry.id)):
        key = entry.subject_kind == "key"
        yield HistoryEvent(
            at=entry.at,
            kind="key" if key else "subscription",
            by=entry.actor,
            what=entry.action,
            text=" · ".join(filter(None, [entry.subject if key else "", _words(entry.after), entry.why])),
            page="",
            inside=False,
        )


def _written(session: Session, of: Subscription, requests: list[int]) -> Iterator[HistoryEvent]:
    """The letters about it, and what became of each."""
    pages = [f"/applications/{of.application_id}", *(f"/requests/{request}" for request in requests)]
    pages += [f"/admit/desk/{request}" for request in requests]
    for letter in session.scalars(select(Mail).where(Mail.page.in_(pages)).order_by(Mail.id)):
        became = "waits" if letter.sent_at is None else "was sent"
        yield HistoryEvent(
            at=letter.created_at,
            kind="letter",
            by="",
            what=f"to {letter.recipient}",
            text=f"{letter.subject} · {f'could not be sent: {letter.failed}' if letter.failed else became}",
            page="",
            inside=False,
        )


def _charged(session: Session, of: Subscription) -> Iterator[HistoryEvent]:
    """The invoices that it is on, with what of each it came to, before tax."""
    query = (
        select(Invoice, func.sum(MoneyLine.amount))
        .join(MoneyLine, MoneyLine.document_id == Invoice.id)
        .where(MoneyLine.subscription_id == of.id)
        .group_by(Invoice.id)
        .order_by(Invoice.id)
    )
    for invoice, amount in session.execute(query):
        yield HistoryEvent(
            at=invoice.issued_at or invoice.created_at,
            kind="invoice",
            by="",
            what=f"{invoice.number}, {invoice.state}" if invoice.number else invoice.state,
            text=f"{invoice.period_start:%B %Y}: {_amount(amount, invoice)} of it, before tax",
            page=f"/settle/invoices/{invoice.id}",
            inside=False,
        )


def _paid(session: Session, of: Subscription) -> Iterator[HistoryEvent]:
    """What closed those invoices, or was open of them again."""
    on = select(MoneyLine.document_id).where(MoneyLine.subscription_id == of.id)
    query = (
        select(Invoice, AccountEntry, func.sum(Allocation.amount))
        .join(Allocation, Allocation.invoice_id == Invoice.id)
        .join(AccountEntry, AccountEntry.id == func.coalesce(Allocation.by_id, Allocation.entry_id))
        .where(Invoice.id.in_(on))
        .group_by(Invoice.id, AccountEntry.id)
    )
    for invoice, entry, amount in session.execute(query):
        closed = "closed" if amount > 0 else "is open again"
        yield HistoryEvent(
            at=entry.at,
            kind="payment",
            by=entry.made_by,
            what="credit on account" if entry.kind == "invoice" else entry.kind,
            text=f"{_amount(abs(amount), invoice)} of {invoice.number} {closed}",
            page=f"/settle/accounts/{entry.consumer_id}",
            inside=False,
        )


def _amount(amount: Decimal, invoice: Invoice) -> str:
    return money(rounded(amount, invoice.currency), invoice.currency)


def _words(after: dict[str, Any] | None) -> str:
    said = [str(after[name]) for name in _SAID_IN if after.get(name)] if after else []
    return said[0] if said else ""
