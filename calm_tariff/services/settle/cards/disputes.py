"""Disputes: whoever paid by card says to their bank that a payment was not right. The money goes back at once, and what
it paid is open again; it is not tried by itself any more. Where the dispute is won, the money comes in again.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Invalid
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import DISPUTE, move
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.processor import Answer, Happened
from calm_tariff.services.settle.accounts import payments
from calm_tariff.services.settle.cards import trying
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.settle.accounts import AccountEntry
from calm_tariff.store.settle.card_attempts import Dispute, PaymentAttempt

SAID = "Its owner disputes it."


def happened(ctx: Context, attempt_id: int, said: Happened) -> None:
    """Write down what became of a dispute about an attempt: each step once, in whichever order they come."""
    # A charge that is disputed was taken, even where nobody has said so yet.
    trying.answered(ctx, attempt_id, Answer(state="done", reference=said.charge))
    with ctx.transaction() as session:
        attempt, consumer = trying.held(session, attempt_id)
        of = session.scalar(select(Dispute).where(Dispute.reference == said.reference))
        if of is None:
            of = Dispute(
                reference=said.reference,
                attempt_id=attempt.id,
                amount=said.amount,
                reason=said.reason,
                state="open",
                opened_at=ctx.now,
            )
            session.add(of)
            session.flush()
            if said.type != "dispute.won":
                _take_back(session, ctx, of, attempt, consumer)
        if of.state != "open" or said.type == "dispute.opened":
            return
        of.state, of.ended_at = move(DISPUTE, "the dispute", of.state, said.type.removeprefix("dispute.")), ctx.now
        session.flush()
        auditing.note(session, ctx, f"heard that a dispute is {of.state}", _subject(of, attempt, consumer))
        if of.state == "won" and of.entry_id is not None:
            trying.book(session, ctx, attempt, consumer)


def waiting(session: Session) -> int:
    """How many disputes are open."""
    return session.scalar(select(func.count(Dispute.id)).where(Dispute.state == "open")) or 0


def _take_back(session: Session, ctx: Context, of: Dispute, attempt: PaymentAttempt, consumer: Consumer) -> None:
    """Book that the payment went back. One of a part of it, or of which part was paid out again, a person has to look
    at."""
    payment = session.get(AccountEntry, attempt.entry_id)
    after = {"amount": str(of.amount), "reason": of.reason}
    auditing.note(session, ctx, "heard of a dispute", _subject(of, attempt, consumer), after=after)
    if payment is None or of.amount != payment.amount:
        return
    if session.scalar(select(AccountEntry.id).where(AccountEntry.returned_id == payment.id)) is not None:
        return
    reason = f"{SAID} {of.reason}".strip()
    try:
        of.entry_id = payments.take_back(session, ctx, consumer, payment, reason).id
    except Invalid:  # part of it was paid out; nothing was booked
        return


def _subject(of: Dispute, attempt: PaymentAttempt, consumer: Consumer) -> Thing:
    return Thing("dispute", of.id, attempt.invoice.number or "", consumer.id)
