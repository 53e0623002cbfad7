"""What the outside says by itself: that a customer is known otherwise there, has not paid, has paid, or has ended. Each
word is checked, applied once and written down, whatever was done about it.

Source: docs/arithmetic.md, section 8.
"""

from __future__ import annotations

from collections.abc import Mapping

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict
from calm_tariff.core.events import Thing
from calm_tariff.core.periods import local_day
from calm_tariff.services.admit import moves, payment_pauses
from calm_tariff.services.admit.moves import Wanted
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import SYSTEM, Context, zone_of
from calm_tariff.services.base.outside_billing import OutsideBilling, OutsideSaid
from calm_tariff.services.serve import trials
from calm_tariff.services.settle.accounts import pausing
from calm_tariff.services.settle.handoff import handing_on
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.locking import all_locked, locked
from calm_tariff.store.settle.handoff import HandedUnits, OutsideCustomer, OutsideWord, plans_billed_outside

# What each says of how a customer stands.
STANDINGS = {"customer.unpaid": "unpaid", "customer.paid": "good", "customer.ended": "ended"}


def take(ctx: Context, billing: OutsideBilling, body: bytes, fields: Mapping[str, str]) -> None:
    """Take a word of the outside's; one that was taken before changes nothing. Raises `NotSignedIn` for what it did not
    sign or not of late, and `Invalid` for what means nothing."""
    said = billing.happened(body, fields, ctx.now)
    acting = ctx.acting(SYSTEM)
    if said.kind == "customer.ended":
        for subscription_id in _alive(acting, said.customer):
            trials.end_trial(acting, subscription_id)  # one that is over already is, before it is ended
    with acting.transaction() as session:
        stamps.hold(session, acting, stamps.SHIPPING)
        # Held first: the same word may come twice at once.
        consumer, known = _whose(session, said.customer)
        if session.scalar(select(OutsideWord.id).where(OutsideWord.word_id == said.id)) is not None:
            return
        done, outcome = _applied(session, acting, said, consumer, known)
        session.add(
            OutsideWord(
                word_id=said.id,
                kind=said.kind,
                customer=said.customer,
                at=said.at,
                heard_at=acting.now,
                consumer_id=consumer.id if consumer is not None else None,
                done=done,
                outcome=outcome,
            )
        )
        name = consumer.name if consumer is not None else said.customer
        thing = Thing("outside billing", consumer.id if consumer else 0, name, consumer.id if consumer else None)
        after = {"customer": said.customer, "said": said.kind, "outcome": outcome}
        auditing.note(session, acting, "heard from outside billing", thing, after=after)


def _whose(session: Session, customer: str) -> tuple[Consumer | None, OutsideCustomer | None]:
    """The consumer that is a customer, held, with what is known of it."""
    which = select(OutsideCustomer.consumer_id).where(OutsideCustomer.customer == customer)
    consumer_id = session.scalar(which)
    consumer = locked(session, Consumer, consumer_id) if consumer_id is not None else None
    known = session.get(OutsideCustomer, consumer.id, populate_existing=True) if consumer is not None else None
    return (consumer, known) if known is not None and known.customer == customer else (None, None)


def _applied(
    session: Session, ctx: Context, said: OutsideSaid, consumer: Consumer | None, known: OutsideCustomer | None
) -> tuple[bool, str]:
    """Do what a word asks for; whether anything was done, and in words what."""
    if consumer is None or known is None:
        return False, "No consumer is mapped to this customer."
    if known.stood_at is not None and said.at < known.stood_at and said.kind != "customer.changed":
        return False, f"Older than what was said of {consumer.name} before."
    if said.kind == "customer.changed":
        return _changed(session, ctx, said, known)
    before, known.standing, known.stood_at = known.standing, STANDINGS[said.kind], said.at
    known.unpaid_for = said.about[:200] if said.kind == "customer.unpaid" else ""
    session.flush()
    if said.kind == "customer.ended":
        return _ended(session, ctx, said, consumer)
    if known.standing == "unpaid":
        pausing.pause_if_unpaid(session, ctx, consumer)
        return True, f"Calls of {consumer.name} are held up until it is paid."
    pausing.go_on_if_paid(session, ctx, consumer.id)
    if payment_pauses.running(session, consumer.id) is not None:
        return True, f"It is paid outside; calls of {consumer.name} stay held up for what is not paid here."
    return True, f"Calls of {consumer.name} go on." if before == "unpaid" else f"{consumer.name} is well again."


def _changed(session: Session, ctx: Context, said: OutsideSaid, known: OutsideCustomer) -> tuple[bool, str]:
    if said.to and said.to != known.customer:
        taken = select(OutsideCustomer.consumer_id).where(OutsideCustomer.customer == said.to)
        if session.scalar(taken) is not None:
            return False, f"{said.to} is another consumer's already."
        known.formerly = [*known.formerly, known.customer]
        known.customer = said.to
    known.name, known.edition = said.name or known.name, known.edition + 1
    session.flush()
    mine = select(Subscription.id).join(Application).where(Application.consumer_id == known.consumer_id)
    handing_on.release(session, ctx, HandedUnits.subscription_id.in_(mine))
    called = f", called {known.name}" if known.name else ""
    return True, f"It is {known.customer} there from now on{called}."


def _ended(session: Session, ctx: Context, said: OutsideSaid, consumer: Consumer) -> tuple[bool, str]:
    ended, later = 0, 0
    for subscription in all_locked(session, Subscription, _alive_in(session, ctx, said.customer)):
        moves.arrive(session, ctx, subscription)
        if subscription.state == "ended":
            continue
        try:
            moves.make(session, ctx, subscription, Wanted(kind="end"))
            ended += 1
        except Conflict:  # its plan asks for notice
            moves.make(session, ctx, subscription, Wanted(kind="end", when="later"))
            later += 1
    pausing.go_on_if_paid(session, ctx, consumer.id)
    parts = [f"{n} {words}" for n, words in ((ended, "ended"), (later, "will end when their notice is over")) if n]
    return bool(parts), f"Subscriptions billed outside: {', '.join(parts) or 'none'}."


def _alive(ctx: Context, customer: str) -> list[int]:
    with ctx.transaction() as session:
        return _alive_in(session, ctx, customer)


def _alive_in(session: Session, ctx: Context, customer: str) -> list[int]:
    """The subscriptions of a customer that are billed outside today and not over."""
    today = local_day(ctx.now_us, zone_of(session)).replace(day=1)
    query = (
        select(Subscription.id)
        .join(Application, Application.id == Subscription.application_id)
        .join(OutsideCustomer, OutsideCustomer.consumer_id == Application.consumer_id)
        .where(OutsideCustomer.customer == customer, Subscription.state != "ended")
        .where(Subscription.plan_id.in_(plans_billed_outside(today)))
    )
    return list(session.scalars(query.order_by(Subscription.id)))
