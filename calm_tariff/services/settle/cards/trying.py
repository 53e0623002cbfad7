"""Making an attempt: the processor is asked under one key until the answer is known, and that is written down once.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.accounts.cards import Failure, failure, failure_in_words
from calm_tariff.core.billing.accounts.payments import Money
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import PAYMENT_ATTEMPT, UNPAID, move
from calm_tariff.core.money import in_digits, rounded
from calm_tariff.core.periods import local_day
from calm_tariff.services.admit import cards
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import SYSTEM, Context, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.base.processor import Answer, ChargeOrder, Processor
from calm_tariff.services.settle.accounts import booking, payments
from calm_tariff.services.settle.cards import planning
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.locking import locked
from calm_tariff.store.settle.card_attempts import PaymentAttempt
from calm_tariff.store.settle.money_documents import Invoice

# How often it is asked about what is under way: the longer it has been, the less often.
SOONEST, LATEST = timedelta(seconds=2), timedelta(hours=1)


def make(ctx: Context, processor: Processor, attempt_id: int) -> datetime | None:
    """Make an attempt, or ask how it stands; when to ask again, if it is not over. Raises `Away`: then it is to be
    asked again, and takes no money twice."""
    acting = ctx.acting(SYSTEM)
    order = _order(acting, attempt_id)
    if order is None:
        return None
    return answered(acting, attempt_id, processor.charge(order))


def answered(ctx: Context, attempt_id: int, answer: Answer) -> datetime | None:
    """Write down what came of an attempt; when to ask again, where it is under way. What is known already changes
    nothing."""
    with ctx.transaction() as session:
        attempt, consumer = held(session, attempt_id)
        if answer.reference and attempt.charge is None:
            attempt.charge = answer.reference
        if answer.state == "under way":
            return None if attempt.state != "tried" else _later(ctx, attempt)
        if attempt.state == "tried" and answer.state == "done":
            _taken(session, ctx, attempt, consumer)
        elif attempt.state == "tried":
            _failed(session, ctx, attempt, consumer, failure(answer.failure or ""))
        return None


def held(session: Session, attempt_id: int) -> tuple[PaymentAttempt, Consumer]:
    """An attempt with whoever has the account now, both held."""
    query = (
        select(Invoice.consumer_id)
        .join(PaymentAttempt, PaymentAttempt.invoice_id == Invoice.id)
        .where(PaymentAttempt.id == attempt_id)
    )
    consumer = booking.held(session, session.scalars(query).one())
    attempt = locked(session, PaymentAttempt, attempt_id)
    assert attempt is not None
    return attempt, consumer


def subject(attempt: PaymentAttempt) -> Thing:
    """What the record and events know an attempt by."""
    return Thing("payment attempt", attempt.id, attempt.invoice.number or "", attempt.invoice.consumer_id)


def _order(ctx: Context, attempt_id: int) -> ChargeOrder | None:
    """What is asked for: what is open when it is asked for first, and the same ever after. None where it is over, or
    nothing is to be taken any more."""
    with ctx.transaction() as session:
        attempt, consumer = held(session, attempt_id)
        invoice = locked(session, Invoice, attempt.invoice_id)
        assert invoice is not None
        if attempt.state == "planned":
            card = cards.current(session, consumer.id)
            if card is None or invoice.state not in UNPAID or not invoice.open_amount:
                attempt.state = move(PAYMENT_ATTEMPT, "the attempt", attempt.state, "called off")
                attempt.ended_at = ctx.now
                return None
            attempt.state = move(PAYMENT_ATTEMPT, "the attempt", attempt.state, "tried")
            attempt.card, attempt.amount, attempt.tried_at = card, invoice.open_amount, ctx.now
        if attempt.state != "tried":
            return None
        return ChargeOrder(
            key=attempt.key,
            token=attempt.card.token,
            amount=rounded(attempt.amount, invoice.currency),
            currency=invoice.currency,
            about=invoice.number or "",
        )


def _taken(session: Session, ctx: Context, attempt: PaymentAttempt, consumer: Consumer) -> None:
    attempt.state, attempt.ended_at = move(PAYMENT_ATTEMPT, "the attempt", attempt.state, "taken"), ctx.now
    attempt.entry_id = book(session, ctx, attempt, consumer)


def book(session: Session, ctx: Context, attempt: PaymentAttempt, consumer: Consumer) -> int:
    """Book what an attempt took, and tell of it; the entry's id. Whoever calls this holds the consumer."""
    today = local_day(ctx.now_us, zone_of(session))
    words = f"{cards.card_of(attempt.card).in_words}, {attempt.charge or attempt.key}"[:140]
    money = Money(amount=attempt.amount, value_on=today, reference=words)
    invoice = attempt.invoice if attempt.invoice.state in UNPAID else None
    return payments.book(session, ctx, consumer, money, invoice, way="card").id


def _failed(session: Session, ctx: Context, attempt: PaymentAttempt, consumer: Consumer, why: Failure) -> None:
    attempt.state, attempt.ended_at = move(PAYMENT_ATTEMPT, "the attempt", attempt.state, "failed"), ctx.now
    attempt.failure = why
    session.flush()
    invoice, card = attempt.invoice, cards.card_of(attempt.card)
    words = failure_in_words(why)
    auditing.note(session, ctx, "could not charge a card", subject(attempt), after={"why": why, "card": card.in_words})
    again = planning.next_try(session, ctx, invoice, cards.current(session, consumer.id))
    fields = {
        "number": invoice.number,
        "total": in_digits(attempt.amount, invoice.currency),
        "currency": invoice.currency,
        "what": card.in_words,
        "reason": words,
        "day": f"{again:%-d %B %Y}" if again else "",
    }
    notice = Notice(kind="payment failed", fields=fields, page=f"/invoices/{invoice.id}")
    notify(session, ctx, members(subscribers.members_who_may(session, consumer.id, "see money")), notice)


def _later(ctx: Context, attempt: PaymentAttempt) -> datetime:
    waited = ctx.now - (attempt.tried_at or ctx.now)
    return ctx.now + max(SOONEST, min(waited / 10, LATEST))
