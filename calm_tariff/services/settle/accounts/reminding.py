"""What follows where an invoice is not paid: it is overdue, it is reminded of, and in the end calls are held up.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.accounts import reminders
from calm_tariff.core.billing.bank.references import creditor_reference
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import INVOICE, UNPAID, move
from calm_tariff.core.money import in_digits
from calm_tariff.core.periods import local_day
from calm_tariff.services.admit import payment_pauses
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import SYSTEM, Context, provider_of, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.base.one_by_one import one_by_one
from calm_tariff.services.settle.accounts import booking, open_items, pausing
from calm_tariff.store.admit import merged, subscribers
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.settle.accounts import Reminder
from calm_tariff.store.settle.money_documents import Invoice

LOOK = "see what follows unpaid invoices"


@dataclass(frozen=True, slots=True, kw_only=True)
class ReminderView:
    """An invoice was reminded of, so many days after it was due, when so much of it was open."""

    after_days: int
    sent_at: datetime
    open_amount: Decimal


def look(ctx: Context) -> int:
    """See what follows today where invoices are not paid; returns for how many consumers something did."""
    with ctx.transaction() as session:
        waiting = _waiting(session, ctx)
    acting = ctx.acting(SYSTEM)
    return one_by_one(sorted(waiting), lambda owner: _followed(acting, owner))


def of_invoices(session: Session, invoice_ids: Sequence[int]) -> dict[int, list[ReminderView]]:
    """The reminders that went out, by invoice."""
    found: dict[int, list[ReminderView]] = {}
    query = select(Reminder).where(Reminder.invoice_id.in_(invoice_ids)).order_by(Reminder.after_days)
    for each in session.scalars(query):
        view = ReminderView(after_days=each.after_days, sent_at=each.sent_at, open_amount=each.open_amount)
        found.setdefault(each.invoice_id, []).append(view)
    return found


def _waiting(session: Session, ctx: Context) -> set[int]:
    """The accounts on which something may have to follow."""
    policy, today = pausing.policy_of(provider_of(session)), local_day(ctx.now_us, zone_of(session))
    successors, paused = merged.successors(session), payment_pauses.all_running(session)
    open_now = Invoice.state.in_(UNPAID), Invoice.open_amount > 0, Invoice.due_on < today
    query = select(Invoice.id, Invoice.consumer_id, Invoice.due_on, Invoice.state).where(*open_now)
    closed = set(session.scalars(select(Consumer.id).where(Consumer.state == "closed")))
    late = session.execute(query).all()
    reminded = of_invoices(session, [row.id for row in late])
    found, hindered = set(), set()
    for row in late:
        assert row.due_on is not None
        owner = successors.get(row.consumer_id, row.consumer_id)
        sent = [each.after_days for each in reminded.get(row.id, [])]
        if row.state != "overdue" or reminders.to_remind(row.due_on, sent, policy, today) is not None:
            found.add(owner)
        if reminders.to_pause(row.due_on, policy, today) and (owner not in closed or owner in paused):
            hindered.add(owner)
    hindered |= {owner for owner in pausing.unpaid_outside(session) if owner not in closed or owner in paused}
    return found | (hindered ^ paused)


def _followed(ctx: Context, owner: int) -> bool:
    with ctx.transaction() as session:
        consumer = booking.held(session, owner)
        today = local_day(ctx.now_us, zone_of(session))
        did = False
        for invoice in open_items.invoices(session, consumer.id):
            did |= _overdue(session, ctx, invoice, today)
            did |= _reminded(session, ctx, consumer, invoice, today)
        did |= pausing.pause_if_unpaid(session, ctx, consumer)
        did |= pausing.go_on_if_paid(session, ctx, consumer.id)
        return did


def _overdue(session: Session, ctx: Context, invoice: Invoice, today: date) -> bool:
    if invoice.state == "overdue" or invoice.due_on is None or today <= invoice.due_on:
        return False
    number = invoice.number or ""
    invoice.state = move(INVOICE, number, invoice.state, "overdue")
    subject = Thing("invoice", invoice.id, number, invoice.consumer_id)
    auditing.note(session, ctx, "found an invoice overdue", subject, after={"open": str(invoice.open_amount)})
    return True


def _reminded(session: Session, ctx: Context, consumer: Consumer, invoice: Invoice, today: date) -> bool:
    policy = pausing.policy_of(provider_of(session))
    sent = [each.after_days for each in of_invoices(session, [invoice.id]).get(invoice.id, [])]
    assert invoice.due_on is not None
    after = reminders.to_remind(invoice.due_on, sent, policy, today)
    if after is None:
        return False
    session.add(Reminder(invoice_id=invoice.id, after_days=after, sent_at=ctx.now, open_amount=invoice.open_amount))
    number = invoice.number or ""
    subject = Thing("invoice", invoice.id, number, invoice.consumer_id)
    auditing.note(session, ctx, "reminded of an invoice", subject, after={"days after due": after})
    fields = {
        "number": number,
        "period": f"{invoice.period_start:%B %Y}",
        "total": in_digits(invoice.open_amount, invoice.currency),
        "currency": invoice.currency,
        "due": f"{invoice.due_on:%-d %B %Y}",
        "reference": creditor_reference(number),
        "iban": provider_of(session).iban,
    }
    notice = Notice(kind="payment reminder", fields=fields, page=f"/invoices/{invoice.id}")
    notify(session, ctx, members(subscribers.members_who_may(session, consumer.id, "see money")), notice)
    return True
