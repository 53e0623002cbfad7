"""How an organisation pays its invoices: said when it first takes a plan that can cost something, and changed by those
who see money."""

from __future__ import annotations

from typing import Protocol

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import payment as rules
from calm_tariff.core.errors import Invalid
from calm_tariff.core.payment import METHODS, Payment
from calm_tariff.core.sentences import payment_in_words
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.cards import PaymentCard
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.products import Plan


class Paid(Protocol):
    """A stored consumer, or an invoice of one."""

    @property
    def payment_method(self) -> str | None: ...

    @property
    def order_number(self) -> str: ...


def charges(plan: Plan) -> bool:
    """Whether a plan, as it is sold now, can come to more than nothing."""
    return rules.charges(read(PlanTerms, plan.revisions[-1].terms).pricing)


def of(one: Paid) -> Payment | None:
    """How a consumer pays, or an invoice is paid; None where nobody has said so."""
    if one.payment_method is None:
        return None
    return rules.payment(one.payment_method, one.order_number)


def said(one: Paid) -> str:
    """The same in words; "" where nobody has said so."""
    payment = of(one)
    return payment_in_words(payment) if payment else ""


def settled(session: Session, ctx: Context, plan: Plan, given: Payment | None) -> None:
    """Have it known how the organisation of whoever asks for a plan pays, where the plan can cost something: as it has
    said before, else as is `given` now. Raises `Invalid` where neither is."""
    if not charges(plan):
        return
    consumer = locked(session, Consumer, ctx.actor.own_consumer)
    assert consumer is not None
    known = of(consumer)
    if known is None and given is None:
        raise Invalid(f"say how invoices of {plan.name} will be paid: by {' or '.join(METHODS)}", "payment")
    if known is None and given is not None and given.method == "card":
        raise Invalid("give a card first, under Account", "payment.method")
    if known is None and given is not None:
        keep(session, ctx, consumer, given)


def change(ctx: Context, to: Payment) -> None:
    """Pay in another way from now on. Raises `NotAllowed`, or `Invalid` for a card where none was given."""
    owner = ctx.actor.consumer_to("say how it pays")
    with ctx.transaction() as session:
        consumer = locked(session, Consumer, owner)
        assert consumer is not None
        if to.method == "card" and not _has_card(session, owner):
            raise Invalid("give a card first", "method")
        if of(consumer) != to:
            keep(session, ctx, consumer, to)


def _has_card(session: Session, consumer_id: int) -> bool:
    return session.scalar(select(PaymentCard.id).where(PaymentCard.current == consumer_id)) is not None


def keep(session: Session, ctx: Context, consumer: Consumer, to: Payment) -> None:
    """Write down how a consumer pays from now on."""
    before = said(consumer)
    consumer.payment_method, consumer.order_number = to.method, to.order_number
    subject = ("consumer", consumer.id, consumer.name)
    auditing.note(
        session, ctx, "said how it pays", subject, before={"payment": before}, after={"payment": payment_in_words(to)}
    )
