"""Lines that people add to drafts, with a reason, and above an amount with a second person's agreement."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.billing import second_person
from calm_tariff.core.billing.documents import adjustments as rules
from calm_tariff.core.billing.documents.adjustments import Wanted
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import ADJUSTMENT, move
from calm_tariff.services.base import auditing, idempotency
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.services.settle.documents import drafting
from calm_tariff.services.settle.periods import reviewing
from calm_tariff.store.base.locking import locked
from calm_tariff.store.settle.money_documents import Adjustment, Invoice


@dataclass(frozen=True, slots=True, kw_only=True)
class AdjustmentView:
    """A line that somebody added. `waiting` for a second person it stands on no invoice; `own` is whether whoever asks
    made it."""

    id: int
    words: str
    amount: Decimal
    treatment: str
    reason: str
    state: str
    made_by: str
    made_at: datetime
    agreed_by: str
    own: bool


def of_invoice(session: Session, ctx: Context, invoice: Invoice) -> list[AdjustmentView]:
    """What was added to an invoice or waits to be, in the order in which it was made."""
    return [
        AdjustmentView(
            id=a.id,
            words=a.words,
            amount=a.amount,
            treatment=a.treatment,
            reason=a.reason,
            state=a.state,
            made_by=a.made_by,
            made_at=a.made_at,
            agreed_by=a.agreed_by,
            own=a.made_by_identity == ctx.actor.identity,
        )
        for a in _of(session, invoice)
        if a.state != "taken back"
    ]


def add(ctx: Context, invoice_id: int, wanted: Wanted, key: str | None = None) -> None:
    """Add a line to a draft. Raises `NotFound`, `Invalid`, naming the field, or `Conflict` where it is issued."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        if idempotency.answered(session, ctx, key, f"adjust {invoice_id} {wanted}") is not None:
            return
        draft = _draft(session, invoice_id)
        wanted = rules.checked(wanted, draft.currency)
        waits = second_person.needs_second(wanted.amount, provider_of(session).adjustment_limit)
        made = Adjustment(
            consumer_id=draft.consumer_id,
            period_start=draft.period_start,
            amount=wanted.amount,
            treatment=wanted.treatment,
            words=wanted.words,
            reason=wanted.reason,
            state="waiting" if waits else "agreed",
            made_by=ctx.actor.name,
            made_by_identity=ctx.actor.identity,
            made_at=ctx.now,
        )
        session.add(made)
        session.flush()
        _note(session, ctx, "adjusted an invoice", made, why=wanted.reason)
        _anew(session, ctx, draft)
        idempotency.remember(session, ctx, key, {"id": made.id})


def agree(ctx: Context, adjustment_id: int) -> None:
    """Agree to a line that somebody else added. Raises `NotFound`, `NotAllowed`, or `Conflict` where it waits for
    nobody."""
    _moved(ctx, adjustment_id, "agreed", "agreed to an adjustment")


def take_back(ctx: Context, adjustment_id: int) -> None:
    """Take a line off a draft again, or what waits to be added. Raises `NotFound`, or `Conflict` where its invoice is
    issued."""
    _moved(ctx, adjustment_id, "taken back", "took an adjustment back")


def _moved(ctx: Context, adjustment_id: int, to: str, action: str) -> None:
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        found = locked(session, Adjustment, adjustment_id)
        if found is None:
            raise NotFound("there is no such adjustment", str(adjustment_id))
        whose = Invoice.consumer_id == found.consumer_id, Invoice.period_start == found.period_start
        invoice_id = session.scalar(select(Invoice.id).where(*whose))
        draft = _draft(session, invoice_id) if invoice_id is not None else None
        if to == "agreed":
            second_person.refuse_own(found.made_by_identity, ctx.actor.identity)
            found.agreed_by, found.agreed_at = ctx.actor.name, ctx.now
        found.state = move(ADJUSTMENT, "adjustment", found.state, to)
        session.flush()
        _note(session, ctx, action, found)
        if draft is not None:
            _anew(session, ctx, draft)


def _anew(session: Session, ctx: Context, draft: Invoice) -> None:
    drafting.adjusted_anew(session, ctx, draft)
    session.flush()
    reviewing.looked_at_again(session, draft)


def refuse_waiting(session: Session, draft: Invoice, called: str) -> None:
    """Raise `Conflict` where an adjustment of a draft waits for a second person."""
    for each in _of(session, draft):
        if each.state == "waiting":
            raise Conflict(f"“{each.words}” waits for a second person to agree to it", called)


def _of(session: Session, invoice: Invoice) -> list[Adjustment]:
    query = select(Adjustment).where(
        Adjustment.consumer_id == invoice.consumer_id, Adjustment.period_start == invoice.period_start
    )
    return list(session.scalars(query.order_by(Adjustment.id)))


def _draft(session: Session, invoice_id: int) -> Invoice:
    draft = locked(session, Invoice, invoice_id)
    if draft is None:
        raise NotFound("there is no such invoice", str(invoice_id))
    if draft.state != "draft":
        raise Conflict(f"is {draft.state} and cannot be adjusted any more: credit it instead", "invoice")
    return draft


def _note(session: Session, ctx: Context, action: str, of: Adjustment, why: str = "") -> None:
    words = f"{of.words}, {of.consumer.name}, {of.period_start:%B %Y}" if of.consumer else of.words
    subject = Thing("adjustment", of.id, words, of.consumer_id)
    after = {"amount": str(of.amount), "treatment": of.treatment, "state": of.state}
    auditing.note(session, ctx, action, subject, after=after, why=why)
