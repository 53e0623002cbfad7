"""Which invoices are tried, and when: by the house's policy, or because somebody says so.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.accounts import collecting
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import NOT_ISSUED, UNPAID
from calm_tariff.core.periods import instant_of, local_day
from calm_tariff.services.admit import cards
from calm_tariff.services.base import auditing, idempotency, jobs
from calm_tariff.services.base.context import SYSTEM, Context, provider_of, zone_of
from calm_tariff.services.base.one_by_one import one_by_one
from calm_tariff.services.settle.accounts import booking, open_items
from calm_tariff.store.admit import merged
from calm_tariff.store.admit.cards import PaymentCard
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.locking import locked
from calm_tariff.store.settle.card_attempts import Dispute, PaymentAttempt
from calm_tariff.store.settle.money_documents import Invoice

LOOK = "plan what is taken from cards today"
TRY = "take money from a card"


@dataclass(frozen=True, slots=True, kw_only=True)
class Planned:
    """An attempt that is made as soon as a worker comes to it."""

    id: int


def look(ctx: Context) -> int:
    """Plan the attempts of today; returns for how many accounts there are some."""
    with ctx.transaction() as session:
        due = _waiting(session, ctx)
    return one_by_one(sorted(due), lambda owner: plan(ctx, owner))


def pay_own(ctx: Context, invoice_id: int, key: str | None = None) -> Planned:
    """Take what is open of one's own invoice from one's card, now. Raises `NotFound` for another's, just as for none,
    or `Conflict` where nothing is open, there is no card, or it is being tried."""
    owner = ctx.actor.consumer_to("see money")
    with ctx.transaction() as session:
        invoice = session.get(Invoice, invoice_id)
        mine = merged.with_merged(session, owner)
        if invoice is None or invoice.consumer_id not in mine or invoice.state in NOT_ISSUED:
            raise NotFound("there is no such invoice", str(invoice_id))
    return _by_hand(ctx, invoice_id, key)


def try_now(ctx: Context, invoice_id: int, key: str | None = None) -> Planned:
    """Take what is open of an invoice from its consumer's card, now. Raises as `pay_own` does."""
    ctx.actor.must_be("finance")
    return _by_hand(ctx, invoice_id, key)


def next_try(session: Session, ctx: Context, invoice: Invoice, card: PaymentCard | None) -> date | None:
    """The day on which an invoice is tried next by itself, or None."""
    if card is None or not _collected(invoice) or invoice.due_on is None or disputed(session, [invoice.id]):
        return None
    policy = tuple(provider_of(session).tries_after_days)
    tried = _tried(session, [invoice.id]).get(invoice.id, [])
    return collecting.next_try(invoice.due_on, tried, policy, _today(session, ctx))


def disputed(session: Session, invoice_ids: Sequence[int]) -> set[int]:
    """Of invoices, those of which a payment by card is or was disputed, and not won: no card is tried for them by
    itself."""
    query = (
        select(PaymentAttempt.invoice_id)
        .join(Dispute, Dispute.attempt_id == PaymentAttempt.id)
        .where(PaymentAttempt.invoice_id.in_(invoice_ids), Dispute.state != "won")
    )
    return set(session.scalars(query))


def _waiting(session: Session, ctx: Context) -> set[int]:
    """Accounts of which an invoice may have to be tried today."""
    provider, today = provider_of(session), _today(session, ctx)
    if not provider.tries_after_days:
        return set()
    query = select(Invoice.id, Invoice.consumer_id, Invoice.due_on).where(
        Invoice.payment_method == "card",
        Invoice.state.in_(UNPAID),
        Invoice.open_amount > 0,
        Invoice.due_on <= today,
    )
    due = session.execute(query).all()
    successors, found = merged.successors(session), set()
    with_card = set(session.scalars(select(PaymentCard.current).where(PaymentCard.current.is_not(None))))
    tried = _tried(session, [row.id for row in due])
    left_alone = disputed(session, [row.id for row in due])
    for row in due:
        owner = successors.get(row.consumer_id, row.consumer_id)
        now = collecting.to_try(row.due_on, tried.get(row.id, ()), tuple(provider.tries_after_days), today)
        if owner in with_card and now is not None and row.id not in left_alone:
            found.add(owner)
    return found


def plan(ctx: Context, owner: int) -> bool:
    """Plan the attempts of today of one account; whether there are some."""
    ctx = ctx.acting(SYSTEM)
    with ctx.transaction() as session:
        consumer = booking.held(session, owner)
        card = cards.current(session, consumer.id)
        provider, today = provider_of(session), _today(session, ctx)
        if card is None:
            return False
        did = False
        open_now = [i for i in open_items.invoices(session, consumer.id) if _collected(i)]
        left_alone = disputed(session, [i.id for i in open_now])
        for invoice in open_now:
            assert invoice.due_on is not None
            tried = _tried(session, [invoice.id]).get(invoice.id, [])
            now = collecting.to_try(invoice.due_on, tried, tuple(provider.tries_after_days), today)
            if now is not None and invoice.id not in left_alone and _going(session, invoice.id) is None:
                _plan(session, ctx, invoice, card)
                did = True
        return did


def _by_hand(ctx: Context, invoice_id: int, key: str | None) -> Planned:
    with ctx.transaction() as session:
        before = idempotency.answered(session, ctx, key, f"take from a card {invoice_id}")
        if before is not None:
            return Planned(**before)
        invoice, consumer = _held(session, invoice_id)
        number = invoice.number or "the invoice"
        if invoice.state not in UNPAID or not invoice.open_amount:
            raise Conflict(f"is {invoice.state}: nothing is open of it", number)
        card = cards.current(session, consumer.id)
        if card is None:
            raise Conflict(f"{consumer.name} has given none", "the card")
        if _going(session, invoice.id) is not None:
            raise Conflict("is being taken from the card already", number)
        planned = Planned(id=_plan(session, ctx, invoice, card).id)
        idempotency.remember(session, ctx, key, {"id": planned.id})
        return planned


def _held(session: Session, invoice_id: int) -> tuple[Invoice, Consumer]:
    """An invoice with whoever has its account, both held."""
    whose = session.scalar(select(Invoice.consumer_id).where(Invoice.id == invoice_id))
    if whose is None:
        raise NotFound("there is no such invoice", str(invoice_id))
    consumer = booking.held(session, whose)
    invoice = locked(session, Invoice, invoice_id)
    assert invoice is not None
    return invoice, consumer


def _plan(session: Session, ctx: Context, invoice: Invoice, card: PaymentCard) -> PaymentAttempt:
    made = PaymentAttempt(
        invoice_id=invoice.id,
        card_id=card.id,
        key=f"try-{ctx.token()[:32]}",
        amount=invoice.open_amount,
        state="planned",
        planned_by=ctx.actor.name,
        planned_at=ctx.now,
    )
    session.add(made)
    session.flush()
    jobs.write(session, ctx, TRY, invoice.number or "", {"attempt": made.id}, subject=str(made.id))
    if ctx.actor != SYSTEM:
        subject = Thing("payment attempt", made.id, invoice.number or "", invoice.consumer_id)
        auditing.note(session, ctx, "had a card tried", subject, after={"amount": str(made.amount)})
    return made


def _collected(invoice: Invoice) -> bool:
    return invoice.payment_method == "card" and invoice.state in UNPAID and invoice.open_amount > 0


def _tried(session: Session, invoice_ids: Sequence[int]) -> dict[int, list[date]]:
    """The days on which invoices were tried, or are to be, by invoice."""
    query = select(PaymentAttempt.invoice_id, PaymentAttempt.planned_at).where(
        PaymentAttempt.invoice_id.in_(invoice_ids), PaymentAttempt.state != "called off"
    )
    where, found = zone_of(session), dict[int, list[date]]()
    for invoice_id, at in session.execute(query):
        found.setdefault(invoice_id, []).append(local_day(instant_of(at), where))
    return found


def _going(session: Session, invoice_id: int) -> int | None:
    return session.scalar(select(PaymentAttempt.id).where(PaymentAttempt.going == invoice_id))


def _today(session: Session, ctx: Context) -> date:
    return local_day(ctx.now_us, zone_of(session))
