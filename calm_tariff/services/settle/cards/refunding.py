"""Credit on account that goes back to the card it came from.

It is booked when it is asked for, so that nothing else can use it meanwhile; where the processor cannot pay it out, it
is booked as come back.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.accounts import payments as rules
from calm_tariff.core.billing.accounts.cards import failure, failure_in_words
from calm_tariff.core.billing.accounts.payments import Money
from calm_tariff.core.errors import Invalid, NotFound
from calm_tariff.core.lifecycles import CARD_REFUND, move
from calm_tariff.core.money import plain, rounded
from calm_tariff.core.periods import local_day
from calm_tariff.services.admit import cards
from calm_tariff.services.base import idempotency, jobs
from calm_tariff.services.base.context import SYSTEM, Context, provider_of, zone_of
from calm_tariff.services.base.processor import Answer, Processor, RefundOrder
from calm_tariff.services.settle.accounts import booking, payments
from calm_tariff.services.settle.cards import trying
from calm_tariff.store.admit import merged
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.locking import locked
from calm_tariff.store.settle.card_attempts import CardRefund, Dispute, PaymentAttempt
from calm_tariff.store.settle.money_documents import Invoice

ZERO = Decimal(0)
PAY_OUT = "pay credit out to a card"


@dataclass(frozen=True, slots=True, kw_only=True)
class CardRefundView:
    """Credit that goes back to a card."""

    id: int
    amount: Decimal
    state: str
    card: str


def refund(ctx: Context, consumer_id: int, amount: Decimal, key: str | None = None) -> CardRefundView:
    """Pay credit on account out to the card of a payment that has so much left, the latest first. Raises `NotFound`, or
    `Invalid`, naming the field, where there is less credit, or no payment by card with so much left."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        before = idempotency.answered(session, ctx, key, f"refund to a card {consumer_id} {amount}")
        if before is not None:
            return _view(session.get_one(CardRefund, before["id"]))
        if session.get(Consumer, consumer_id) is None:
            raise NotFound("there is no such consumer", str(consumer_id))
        owner = booking.held(session, consumer_id)
        today = local_day(ctx.now_us, zone_of(session))
        money = rules.checked(Money(amount=amount, value_on=today), provider_of(session).currency, today)
        attempt = _with_so_much(session, owner, money.amount)
        words = f"to {cards.card_of(attempt.card).in_words}"
        booked = Money(amount=money.amount, value_on=today, reference=words)
        entry = payments.book(session, ctx, owner, booked, refund=True, way="card")
        made = CardRefund(
            attempt_id=attempt.id,
            key=f"refund-{ctx.token()[:32]}",
            amount=money.amount,
            state="planned",
            asked_by=ctx.actor.name,
            asked_at=ctx.now,
            entry_id=entry.id,
        )
        session.add(made)
        session.flush()
        jobs.write(session, ctx, PAY_OUT, owner.name, {"refund": made.id}, subject=str(made.id))
        idempotency.remember(session, ctx, key, {"id": made.id})
        return _view(made)


def refundable(session: Session, consumer_id: int) -> Decimal:
    """The most that can go back to one card of a consumer's, whatever credit there is."""
    left = [amount for _, amount in _left(session, consumer_id)]
    return max(left, default=ZERO)


def make(ctx: Context, processor: Processor, refund_id: int) -> datetime | None:
    """Have credit paid out, or ask how that stands; when to ask again, if it is not over. Raises `Away`."""
    acting = ctx.acting(SYSTEM)
    with acting.transaction() as session:
        found = session.get_one(CardRefund, refund_id)
        if found.state != "planned":
            return None
        charge, currency = found.attempt.charge or "", found.attempt.invoice.currency
        order = RefundOrder(key=found.key, charge=charge, amount=rounded(found.amount, currency), currency=currency)
    return answered(acting, refund_id, processor.refund(order))


def answered(ctx: Context, refund_id: int, answer: Answer) -> datetime | None:
    """Write down what came of a refund; when to ask again, where it is under way."""
    with ctx.transaction() as session:
        attempt_id = session.scalars(select(CardRefund.attempt_id).where(CardRefund.id == refund_id)).one()
        attempt, consumer = trying.held(session, attempt_id)
        found = locked(session, CardRefund, refund_id)
        assert found is not None
        if found.state != "planned":
            return None
        if answer.state == "under way":
            waited = ctx.now - found.asked_at
            return ctx.now + max(trying.SOONEST, min(waited / 10, trying.LATEST))
        if answer.state == "done":
            found.state, found.ended_at = move(CARD_REFUND, "the refund", found.state, "paid out"), ctx.now
            return None
        why = failure(answer.failure or "")
        found.state, found.ended_at = move(CARD_REFUND, "the refund", found.state, "failed"), ctx.now
        found.failure = why
        session.flush()
        today = local_day(ctx.now_us, zone_of(session))
        words = f"not paid out to {cards.card_of(attempt.card).in_words}: {failure_in_words(why)}"
        money = Money(amount=found.amount, value_on=today, reference=words[: rules.LONGEST_REFERENCE])
        payments.book(session, ctx, consumer, money, way="card")
        return None


def _with_so_much(session: Session, owner: Consumer, amount: Decimal) -> PaymentAttempt:
    left = _left(session, owner.id)
    for attempt, of_it in left:
        if of_it >= amount:
            return attempt
    most = max((of_it for _, of_it in left), default=ZERO)
    words = f"at most {plain(most)} can go back to one card" if most else "nothing was paid by card that can go back"
    raise Invalid(words, "amount")


def _left(session: Session, consumer_id: int) -> list[tuple[PaymentAttempt, Decimal]]:
    """Payments by card that were neither disputed nor wholly paid out, the latest first, with what is left of each."""
    back = (
        select(CardRefund.attempt_id, func.sum(CardRefund.amount).label("amount"))
        .where(CardRefund.state != "failed")
        .group_by(CardRefund.attempt_id)
        .subquery()
    )
    disputed = select(Dispute.attempt_id)
    query = (
        select(PaymentAttempt, PaymentAttempt.amount - func.coalesce(back.c.amount, ZERO))
        .join(Invoice, Invoice.id == PaymentAttempt.invoice_id)
        .outerjoin(back, back.c.attempt_id == PaymentAttempt.id)
        .where(
            Invoice.consumer_id.in_(merged.with_merged(session, consumer_id)),
            PaymentAttempt.state == "taken",
            PaymentAttempt.id.not_in(disputed),
        )
        .order_by(PaymentAttempt.id.desc())
    )
    return [(attempt, left) for attempt, left in session.execute(query) if left > 0]


def _view(of: CardRefund) -> CardRefundView:
    return CardRefundView(id=of.id, amount=of.amount, state=of.state, card=cards.card_of(of.attempt.card).in_words)
