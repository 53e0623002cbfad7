"""Whether what is not paid holds a consumer's calls up, by the house's policy."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.billing.accounts import reminders
from calm_tariff.core.billing.accounts.reminders import Policy
from calm_tariff.core.periods import local_day
from calm_tariff.services.admit import payment_pauses
from calm_tariff.services.base.context import SYSTEM, Context, provider_of, zone_of
from calm_tariff.services.settle.accounts import open_items
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.provider import Provider
from calm_tariff.store.settle.handoff import OutsideCustomer
from calm_tariff.store.settle.money_documents import Invoice


def policy_of(provider: Provider) -> Policy:
    """What the house does about what is not paid."""
    return Policy(reminders_after_days=tuple(provider.reminders_after_days), pause_after_days=provider.pause_after_days)


def hindering(session: Session, ctx: Context, owner: int) -> list[Invoice]:
    """The open invoices of an account that are old enough to hold calls up, the first due before the others."""
    policy = policy_of(provider_of(session))
    today = local_day(ctx.now_us, zone_of(session))
    found = (i for i in open_items.invoices(session, owner) if i.due_on and reminders.to_pause(i.due_on, policy, today))
    return sorted(found, key=lambda i: (i.due_on, i.id))


def unpaid_outside(session: Session) -> set[int]:
    """The consumers of which the outside says that they have not paid what it bills."""
    return set(session.scalars(select(OutsideCustomer.consumer_id).where(OutsideCustomer.standing == "unpaid")))


def held_up_for(session: Session, ctx: Context, owner: int) -> str | None:
    """The number of what is not paid and holds a consumer's calls up: an invoice's, or what whoever bills outside
    named. None where nothing does."""
    found = hindering(session, ctx, owner)
    if found:
        return found[0].number or ""
    outside = session.get(OutsideCustomer, owner)
    return outside.unpaid_for if outside is not None and outside.standing == "unpaid" else None


def pause_if_unpaid(session: Session, ctx: Context, consumer: Consumer) -> bool:
    """Hold calls up where something is not paid and they are not yet; whether they are now. Whoever calls this holds
    the consumer."""
    wanted = held_up_for(session, ctx, consumer.id)
    if wanted is None or consumer.state == "closed" or payment_pauses.running(session, consumer.id) is not None:
        return False
    payment_pauses.begin(session, ctx.acting(SYSTEM), consumer, wanted)
    return True


def go_on_if_paid(session: Session, ctx: Context, owner: int) -> bool:
    """Let calls go on that were held up, where nothing hinders them any more; whether they do now. Whoever calls this
    holds the consumer."""
    if payment_pauses.running(session, owner) is None or held_up_for(session, ctx, owner) is not None:
        return False
    payment_pauses.end(session, ctx.acting(SYSTEM), session.get_one(Consumer, owner))
    return True
