"""Attempts to take money from cards, as they are read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.accounts.cards import failure, failure_in_words
from calm_tariff.services.admit import cards
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.settle.card_attempts import CardRefund, Dispute, PaymentAttempt
from calm_tariff.store.settle.money_documents import Invoice

ZERO = Decimal(0)


@dataclass(frozen=True, slots=True, kw_only=True)
class AttemptView:
    """An attempt to take what was open of an invoice from a card: who planned it, when it was over, why it failed in
    words, how a dispute about it stands ("" for none), and how much of it went back to the card."""

    id: int
    invoice_id: int
    number: str
    consumer_id: int
    consumer: str
    amount: Decimal
    currency: str
    card: str
    state: str
    failure: str
    planned_by: str
    planned_at: datetime
    ended_at: datetime | None
    dispute: str
    dispute_reason: str
    dispute_booked: bool
    went_back: Decimal


def listed(ctx: Context, wanted: PageQuery) -> Page[AttemptView]:
    """A page of all attempts. Orders: newest, oldest, amount. Words narrow it to a consumer, an invoice or a state."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        query = (
            select(PaymentAttempt)
            .join(Invoice, Invoice.id == PaymentAttempt.invoice_id)
            .join(Consumer, Consumer.id == Invoice.consumer_id)
        )
        if wanted.words:
            columns = Consumer.name, Invoice.number, PaymentAttempt.state
            words = wanted.words.lower()
            found_in = [func.lower(each).contains(words, autoescape=True) for each in columns]
            query = query.where(found_in[0] | found_in[1] | found_in[2])
        orders = {"newest": -PaymentAttempt.id, "oldest": PaymentAttempt.id, "amount": PaymentAttempt.amount}
        found = page(session, query, PaymentAttempt.id, orders, wanted)
        return Page(_views(session, found.rows), found.next, found.total)


def of_invoice(session: Session, invoice_id: int) -> list[AttemptView]:
    """The attempts to take what is open of an invoice, in order."""
    query = select(PaymentAttempt).where(PaymentAttempt.invoice_id == invoice_id).order_by(PaymentAttempt.id)
    return _views(session, list(session.scalars(query)))


def _views(session: Session, attempts: Sequence[PaymentAttempt]) -> list[AttemptView]:
    ids = [each.id for each in attempts]
    invoices = {
        i.id: i for i in session.scalars(select(Invoice).where(Invoice.id.in_({a.invoice_id for a in attempts})))
    }
    disputes = {d.attempt_id: d for d in session.scalars(select(Dispute).where(Dispute.attempt_id.in_(ids)))}
    back = (
        select(CardRefund.attempt_id, func.sum(CardRefund.amount))
        .where(CardRefund.attempt_id.in_(ids), CardRefund.state != "failed")
        .group_by(CardRefund.attempt_id)
    )
    went_back: dict[int, Decimal] = {attempt: amount for attempt, amount in session.execute(back)}  # noqa: C416
    return [_view(a, invoices[a.invoice_id], disputes.get(a.id), went_back.get(a.id, ZERO)) for a in attempts]


def _view(of: PaymentAttempt, invoice: Invoice, dispute: Dispute | None, went_back: Decimal) -> AttemptView:
    return AttemptView(
        id=of.id,
        invoice_id=invoice.id,
        number=invoice.number or "",
        consumer_id=invoice.consumer_id,
        consumer=invoice.consumer.name,
        amount=of.amount,
        currency=invoice.currency,
        card=cards.card_of(of.card).in_words,
        state=of.state,
        failure=failure_in_words(failure(of.failure)) if of.failure else "",
        planned_by=of.planned_by,
        planned_at=of.planned_at,
        ended_at=of.ended_at,
        dispute=dispute.state if dispute else "",
        dispute_reason=dispute.reason if dispute else "",
        dispute_booked=dispute is None or dispute.entry_id is not None,
        went_back=went_back,
    )
