"""Writing off: what is open of an invoice will not be paid, with a reason, and above an amount by two people.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import reasons
from calm_tariff.core.billing import second_person
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import UNPAID, WRITE_OFF, move
from calm_tariff.services.base import auditing, idempotency
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.services.settle.accounts import booking
from calm_tariff.store.base.locking import locked
from calm_tariff.store.settle.accounts import WriteOff
from calm_tariff.store.settle.money_documents import Invoice


@dataclass(frozen=True, slots=True, kw_only=True)
class WriteOffView:
    """What somebody wants to write off of an invoice, or wrote off; `own` is whether whoever asks wanted it."""

    id: int
    amount: Decimal
    reason: str
    state: str
    made_by: str
    made_at: datetime
    agreed_by: str
    own: bool


def of_invoice(session: Session, ctx: Context, invoice_id: int) -> list[WriteOffView]:
    """What was written off of an invoice or waits to be, in the order in which it was asked for."""
    query = select(WriteOff).where(WriteOff.invoice_id == invoice_id, WriteOff.state != "taken back")
    return [
        WriteOffView(
            id=w.id,
            amount=w.amount,
            reason=w.reason,
            state=w.state,
            made_by=w.made_by,
            made_at=w.made_at,
            agreed_by=w.agreed_by,
            own=w.made_by_identity == ctx.actor.identity,
        )
        for w in session.scalars(query.order_by(WriteOff.id))
    ]


def waiting(session: Session, ctx: Context) -> list[tuple[int, str]]:
    """The invoices, by id and number, of which colleagues of whoever asks want to write something off, oldest first."""
    query = (
        select(Invoice.id, Invoice.number)
        .join(WriteOff, WriteOff.invoice_id == Invoice.id)
        .where(WriteOff.state == "waiting", WriteOff.made_by_identity != ctx.actor.identity)
        .order_by(WriteOff.id)
    )
    return [(invoice_id, number or "") for invoice_id, number in session.execute(query)]


def ask(ctx: Context, invoice_id: int, reason: str, key: str | None = None) -> WriteOffView:
    """Write off what is open of an invoice; above an amount that the house sets, a second person has to agree first.
    Raises `NotFound`, `Invalid`, naming the field, or `Conflict` where nothing is open, or somebody asked already."""
    ctx.actor.must_be("finance")
    reason = reasons.given(reason)
    with ctx.transaction() as session:
        before = idempotency.answered(session, ctx, key, f"write off {invoice_id} {reason}")
        if before is not None:
            return next(w for w in of_invoice(session, ctx, invoice_id) if w.id == before["id"])
        invoice = _open(session, invoice_id)
        already = select(WriteOff.id).where(WriteOff.invoice_id == invoice.id, WriteOff.state == "waiting")
        if session.scalar(already) is not None:
            raise Conflict("waits to be written off already", invoice.number or "")
        waits = second_person.needs_second(invoice.open_amount, provider_of(session).write_off_limit)
        made = WriteOff(
            invoice_id=invoice.id,
            amount=invoice.open_amount,
            reason=reason,
            state="waiting" if waits else "agreed",
            made_by=ctx.actor.name,
            made_by_identity=ctx.actor.identity,
            made_at=ctx.now,
        )
        session.add(made)
        session.flush()
        if waits:
            _note(session, ctx, "asked to write an invoice off", made, invoice)
        else:
            _write_off(session, ctx, made, invoice)
        idempotency.remember(session, ctx, key, {"id": made.id})
        return next(w for w in of_invoice(session, ctx, invoice_id) if w.id == made.id)


def agree(ctx: Context, write_off_id: int) -> None:
    """Agree to what somebody else wants to write off: what is open of it now is written off. Raises `NotFound`,
    `NotAllowed`, or `Conflict` where it waits for nobody, or nothing is open any more."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        found, invoice = _waiting(session, write_off_id)
        second_person.refuse_own(found.made_by_identity, ctx.actor.identity)
        found.state = move(WRITE_OFF, "write-off", found.state, "agreed")
        found.agreed_by, found.agreed_at = ctx.actor.name, ctx.now
        _write_off(session, ctx, found, invoice)


def take_back(ctx: Context, write_off_id: int) -> None:
    """Give nothing up after all. Raises `NotFound`, or `Conflict` where it is written off already."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        found, invoice = _waiting(session, write_off_id)
        found.state = move(WRITE_OFF, "write-off", found.state, "taken back")
        _note(session, ctx, "took back to write an invoice off", found, invoice)


def _waiting(session: Session, write_off_id: int) -> tuple[WriteOff, Invoice]:
    of = session.get(WriteOff, write_off_id)
    if of is None:
        raise NotFound("there is no such write-off", str(write_off_id))
    booking.held(session, of.invoice.consumer_id)
    found = locked(session, WriteOff, write_off_id)
    invoice = locked(session, Invoice, of.invoice_id)
    assert found is not None and invoice is not None
    return found, invoice


def _open(session: Session, invoice_id: int) -> Invoice:
    """An invoice of which something is open, held with its consumer."""
    whose = session.scalar(select(Invoice.consumer_id).where(Invoice.id == invoice_id))
    if whose is None:
        raise NotFound("there is no such invoice", str(invoice_id))
    booking.held(session, whose)
    invoice = locked(session, Invoice, invoice_id)
    assert invoice is not None
    _refuse_closed(invoice)
    return invoice


def _refuse_closed(invoice: Invoice) -> None:
    if invoice.state not in UNPAID or not invoice.open_amount:
        raise Conflict(f"is {invoice.state}: nothing is open of it", invoice.number or "the invoice")


def _write_off(session: Session, ctx: Context, of: WriteOff, invoice: Invoice) -> None:
    _refuse_closed(invoice)
    of.amount = invoice.open_amount
    _note(session, ctx, "wrote an invoice off", of, invoice)
    booking.written_off(session, ctx, invoice, of.reason)


def _note(session: Session, ctx: Context, did: str, of: WriteOff, invoice: Invoice) -> None:
    subject = Thing("write-off", of.id, invoice.number or "", invoice.consumer_id)
    auditing.note(session, ctx, did, subject, after={"amount": str(of.amount), "state": of.state}, why=of.reason)
